"""Python frameworks, one module each."""
