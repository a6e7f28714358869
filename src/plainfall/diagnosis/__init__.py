"""Failures recognised in a program's output, and the remedy for each."""
