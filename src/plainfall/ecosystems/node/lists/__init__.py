"""Node: dependency lists and locks, read."""
