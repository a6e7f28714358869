"""One part of a clone under way: what a run of it decides."""
