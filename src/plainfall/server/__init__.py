"""The dev server's life: ports, processes, readiness, probes."""
