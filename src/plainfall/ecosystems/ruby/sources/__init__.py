"""Ruby: what source files say."""
