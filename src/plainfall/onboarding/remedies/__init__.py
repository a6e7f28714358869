"""What may help after a failure: one module each, found by walking; their functions propose, and change nothing."""
