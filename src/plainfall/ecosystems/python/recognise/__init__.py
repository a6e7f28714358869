"""Python: what is found in a clone."""
