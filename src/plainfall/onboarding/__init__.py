"""The whole job: steps, their order, what is still done from the run before, events, the journal."""
