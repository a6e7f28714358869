"""Names for gauge stations."""

from pathlib import Path

__version__ = "3.0"


def names():
    file = Path(__file__).parent / "lists" / "valley.txt"
    return [line for line in file.read_text("utf-8").splitlines() if line]
