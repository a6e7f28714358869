"""Small simulated outside services and a sample clone, so that everything runs with no network."""
