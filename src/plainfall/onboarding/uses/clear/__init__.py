"""Taking away what was made."""
