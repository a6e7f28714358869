"""PHP: what source files say."""
