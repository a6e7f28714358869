"""A run: steps, their order, what is kept from the run before, events, the journal."""
