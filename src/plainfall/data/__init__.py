"""The project's database: where it is, what is in it, and putting it back when a step fails half-way."""
