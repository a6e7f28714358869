"""Lock files of Node clones, one module per format."""
