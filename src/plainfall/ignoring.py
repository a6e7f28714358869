"""Ignore rules (gitignore(5)) that somebody else wrote: a pattern that is none is skipped, and none costs more
than rules that people write."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from pathspec import GitIgnoreSpec

__all__ = ["ignore_rules"]

_MOST = 5_000  # lines
_LONGEST = 500  # characters of a pattern
_MOST_STARS = 12  # in one pattern; matching costs a power of them


def ignore_rules(lines: Iterable[str]) -> GitIgnoreSpec:
    """The rules of these lines."""
    from pathspec import GitIgnoreSpec

    usable = [
        line for line in list(lines)[:_MOST] if len(line) <= _LONGEST and line.count("*") <= _MOST_STARS
    ]
    try:
        return GitIgnoreSpec.from_lines(usable)
    except ValueError:
        return GitIgnoreSpec.from_lines(line for line in usable if _is_pattern(line))


def _is_pattern(line: str) -> bool:
    from pathspec import GitIgnoreSpec

    try:
        GitIgnoreSpec.from_lines([line])
    except ValueError:
        return False
    return True
