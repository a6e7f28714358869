"""Looking at what runs."""
