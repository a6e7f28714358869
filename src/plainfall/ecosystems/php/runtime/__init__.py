"""PHP: versions that are asked for, interpreters, environments."""
