"""Where the files lie that ask for a version: in a part's folder, and above it."""

from __future__ import annotations

from collections.abc import Iterator

from plainfall.clone.walk import Tree
from plainfall.errors import BadInput

__all__ = ["numbered_lines", "upwards", "within"]


def within(folder: str, name: str) -> str:
    """The path of a name in a folder ("" is the clone's own)."""
    return f"{folder}/{name}" if folder else name


def upwards(folder: str, name: str) -> Iterator[str]:
    """The paths of a name in a folder and in each above it, the nearest first."""
    yield within(folder, name)
    while folder:
        folder = folder.rpartition("/")[0]
        yield within(folder, name)


def numbered_lines(tree: Tree, path: str) -> list[tuple[int, str]]:
    """The lines of a file with their numbers; none for one that is absent or no text."""
    if path not in tree:
        return []
    try:
        return list(enumerate(tree.text(path).splitlines(), 1))
    except BadInput:
        return []  # not text: not written for us
