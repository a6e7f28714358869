"""Databases, caches and brokers that a clone wants beside its servers."""
