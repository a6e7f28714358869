"""Ruby: from what is asked for to versions."""
