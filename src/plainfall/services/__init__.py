"""Databases, caches and brokers that a clone's servers need."""
