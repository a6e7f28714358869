"""JavaScript and TypeScript sources: what they say of configuration."""
