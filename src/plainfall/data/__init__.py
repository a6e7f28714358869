"""The project's database: where it is, what is in it, and restoring it when a step fails."""
