"""Node: what may help after a failure."""
