"""Frameworks of Ruby: one module for each."""
