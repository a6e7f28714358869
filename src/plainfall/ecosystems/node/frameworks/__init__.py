"""Node frameworks, one module each."""
