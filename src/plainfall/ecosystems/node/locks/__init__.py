"""Lock files of Node clones, one module a format."""
