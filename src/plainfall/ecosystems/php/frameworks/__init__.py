"""Frameworks of PHP: one module for each."""
