"""Python: version asks, interpreters, virtual environments, lock files, wheels."""
