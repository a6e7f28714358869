"""Configuration files of every kind, as texts with places."""
