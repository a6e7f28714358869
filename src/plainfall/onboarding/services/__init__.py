"""The private servers of a clone: which ones, their start and end, copies of their data."""
