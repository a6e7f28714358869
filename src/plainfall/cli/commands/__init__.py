"""One module per command; each has ``run(options, console)``, which returns the exit status."""
