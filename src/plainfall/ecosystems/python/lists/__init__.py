"""The lists that Python projects keep their dependencies in: one module a kind of file."""
