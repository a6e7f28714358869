"""What several languages have alike, written once."""
