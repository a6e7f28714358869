"""Its servers, and their output."""
