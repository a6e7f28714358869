"""Node: the package clients: their configuration, and their names in scripts."""
