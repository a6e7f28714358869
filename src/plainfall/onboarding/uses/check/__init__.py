"""The project's own checks."""
