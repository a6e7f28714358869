"""Node: asks, interpreters, lock files, packages, scripts."""
