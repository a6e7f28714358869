"""The lists that Python projects keep their dependencies in: one module per kind of file."""
