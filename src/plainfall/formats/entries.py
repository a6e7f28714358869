"""One assignment of a configuration file, and the comment above a line: what readers of every kind share."""

from __future__ import annotations

import re

from msgspec import Struct

__all__ = ["Entry", "comment_above"]


class Entry(Struct, frozen=True):
    """One assignment: key, value as a reader sees it (before interpolation), the line it starts on, the
    comment lines straight above it, and where its written value lies in the text (start, end)."""

    key: str
    value: str
    line: int
    comment: str
    start: int
    end: int


def comment_above(lines: list[str], line: int) -> str:
    """The comment lines straight above a line (counted from 1), or the comment at its own end."""
    gathered: list[str] = []
    for text in reversed(lines[: line - 1]):
        stripped = text.strip()
        if not stripped.startswith(("#", ";", "//", "*", "/*")):
            break
        gathered.insert(0, stripped.lstrip("#;/* ").rstrip("*/ "))
    match = re.search(r"\s(?:#|//)\s*(.*)$", lines[line - 1]) if not gathered and line <= len(lines) else None
    return match.group(1) if match else "\n".join(gathered)
