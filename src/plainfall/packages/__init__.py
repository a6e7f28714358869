"""Fetching, verifying, unpacking and placing packages: what every ecosystem shares."""
