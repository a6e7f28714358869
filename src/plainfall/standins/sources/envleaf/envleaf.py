"""Loads settings from ``.env`` into the environment; a variable that is set already stays."""

import os

__version__ = "1.2.1"


def load(path=".env"):
    try:
        lines = open(path, encoding="utf-8").read().splitlines()
    except FileNotFoundError:
        return
    for line in lines:
        key, joined, value = line.partition("=")
        if joined and not line.lstrip().startswith("#"):
            value = value.strip()
            if len(value) > 1 and value[0] == value[-1] and value[0] in "'\"":
                value = value[1:-1]
            os.environ.setdefault(key.strip(), value)
