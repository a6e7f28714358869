"""The read-only look at a clone: its parts, what they need, and the evidence for it."""
