"""TOML configuration files: values with their places, which tomlkit's lossless document gives.

The document gives no positions. Each value in turn is replaced by a mark, and the mark is looked for in what the
document then comes to: the text before it and after it is the file's own.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from plainfall.formats.entries import Entry, comment_above
from plainfall.reading import toml_table

__all__ = ["toml_entries"]

_MARK = 90_071_992_547_409_91  # an integer that no file holds by chance
_LARGEST = 60_000  # characters; in a larger file the places are not looked for


def toml_entries(text: str, path: str) -> Iterator[Entry]:
    """Every scalar; a list of scalars is one entry, joined with commas and not to be replaced in place.
    Raises BadInput."""
    bare = text.removeprefix("\ufeff")
    shift = len(text) - len(bare)
    entire = toml_table(bare, path)
    lines = text.splitlines()
    places = _Places(bare) if len(bare) <= _LARGEST else None
    for keys, value in _flat(entire, ()):
        start, end = places.of(keys) if places is not None else (-1, -1)
        line = bare.count("\n", 0, start) + 1 if start >= 0 else 0
        comment = comment_above(lines, line) if line else ""
        if start < 0 or isinstance(value, list):
            start = end = -1 - shift
        yield Entry(".".join(keys), _text(value), line, comment, start + shift, end + shift)


def _flat(table: Mapping[str, Any], above: tuple[str, ...]) -> Iterator[tuple[tuple[str, ...], Any]]:
    for key, value in table.items():
        if isinstance(value, dict):
            yield from _flat(value, (*above, key))
        elif not (isinstance(value, list) and any(isinstance(one, dict | list) for one in value)):
            yield (*above, key), value


def _text(value: Any) -> str:
    if isinstance(value, list):
        return ",".join(_text(one) for one in value)
    return str(value).lower() if isinstance(value, bool) else str(value)


class _Places:
    """Where values stand in a file."""

    def __init__(self, text: str) -> None:
        import tomlkit
        from tomlkit.exceptions import TOMLKitError

        self._text = text
        try:
            self._document: Any = tomlkit.parse(text)
            self._lossless = self._document.as_string() == text
        except (TOMLKitError, ValueError):
            self._lossless = False  # the standard's reader took it, and this one does not: no places

    def of(self, keys: tuple[str, ...]) -> tuple[int, int]:
        """From where to where in the text the value below the keys is written; (-1, -1) if that is not sure."""
        from tomlkit.exceptions import TOMLKitError

        if not self._lossless:
            return -1, -1
        try:
            table = self._document
            for key in keys[:-1]:
                table = table[key]
            before = table[keys[-1]]
            table[keys[-1]] = _MARK
            marked: str = self._document.as_string()
            table[keys[-1]] = before
        except (TOMLKitError, TypeError, KeyError):
            return -1, -1
        start = marked.find(str(_MARK))
        after = marked[start + len(str(_MARK)) :]
        end = len(self._text) - len(after)
        sure = start >= 0 and marked[:start] == self._text[:start] and self._text[end:] == after
        return (start, end) if sure else (-1, -1)
