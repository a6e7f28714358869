"""Python: what may help after a failure."""
