"""Kinds of service: one module for each, with a ``KIND``; found by walking."""
