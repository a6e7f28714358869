"""Plainfall: takes a freshly cloned project to a dev server that answers."""

__version__ = "0.1.0"
