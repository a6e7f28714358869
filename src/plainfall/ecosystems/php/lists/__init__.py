"""PHP: dependency lists and locks, read."""
