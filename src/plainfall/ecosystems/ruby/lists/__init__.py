"""Ruby: dependency lists and locks, read."""
