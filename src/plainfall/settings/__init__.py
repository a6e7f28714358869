"""Settings files: templates, what a value is for, filling in without losing anything."""
