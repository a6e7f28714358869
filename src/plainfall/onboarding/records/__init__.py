"""What is kept of a clone between runs, and of the runs themselves."""
