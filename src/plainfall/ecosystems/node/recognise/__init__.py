"""Node: what is found in a clone."""
