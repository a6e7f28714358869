"""The kinds of service that Plainfall serves by itself, one module each with its ``ENGINE``."""
