"""A log of daily rain gauge readings."""
