"""What is reported of a clone."""
