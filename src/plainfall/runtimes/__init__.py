"""Which version of a runtime is asked for, which interpreters are here, and which one to take."""
