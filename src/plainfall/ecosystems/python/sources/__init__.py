"""Python sources: what they say of configuration."""
