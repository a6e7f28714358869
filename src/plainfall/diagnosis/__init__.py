"""Failures recognised in what a program said, and the remedy for each."""
