"""PHP: what is found in a clone."""
