"""Ruby: what is found in a clone."""
