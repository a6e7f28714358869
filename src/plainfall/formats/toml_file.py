"""TOML configuration files: values of one line with their places, each checked against the whole reading."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator, Mapping
from typing import Any

from plainfall.formats.entries import Entry, comment_above
from plainfall.reading import toml_table

__all__ = ["toml_entries"]

_TABLE = re.compile(r"^\s*\[\s*([^\[\]]+?)\s*\]\s*(?:#.*)?$")
_PAIR = re.compile(r"^(\s*)([A-Za-z0-9_.\"'-]+(?:\s*\.\s*[A-Za-z0-9_\"'-]+)*)(\s*=\s*)(.*)$")


def toml_entries(text: str, path: str) -> Iterator[Entry]:
    """Every scalar; a list of scalars is one entry, joined with commas and not to be replaced in place.
    Raises BadInput."""
    whole = toml_table(text.removeprefix("\ufeff"), path)
    lines = text.splitlines()
    places = _places(text)
    for name, value in _flat(whole, ""):
        written = _text(value)
        start, end, line_number = places.get(name, (-1, -1, 0))
        if start >= 0 and not _is(text[start:end], value):
            start = end = -1
        comment = comment_above(lines, line_number) if line_number else ""
        yield Entry(name, written, line_number, comment, -1 if isinstance(value, list) else start, end)


def _flat(table: Mapping[str, Any], prefix: str) -> Iterator[tuple[str, Any]]:
    for key, value in table.items():
        if isinstance(value, dict):
            yield from _flat(value, f"{prefix}{key}.")
        elif not (isinstance(value, list) and any(isinstance(one, dict | list) for one in value)):
            yield prefix + key, value


def _text(value: Any) -> str:
    if isinstance(value, list):
        return ",".join(_text(one) for one in value)
    return str(value).lower() if isinstance(value, bool) else str(value)


def _places(text: str) -> dict[str, tuple[int, int, int]]:
    """Key to (start, end, line) of what is written after its ``=``."""
    places: dict[str, tuple[int, int, int]] = {}
    prefix, position = "", 0
    for number, line in enumerate(text.splitlines(keepends=True), 1):
        table = _TABLE.match(line.rstrip("\r\n"))
        pair = _PAIR.match(line.rstrip("\r\n"))
        if table:
            prefix = ".".join(_name(piece) for piece in table.group(1).split(".")) + "."
        elif pair:
            name = prefix + ".".join(_name(piece) for piece in pair.group(2).split("."))
            start = position + pair.start(4)
            places.setdefault(name, (start, start + len(_without_comment(pair.group(4))), number))
        position += len(line)
    return places


def _name(piece: str) -> str:
    return piece.strip().strip("\"'")


def _without_comment(written: str) -> str:
    found = re.match(r"\"(?:\\.|[^\"\\])*\"|'[^']*'|[^#]*", written)
    return found.group(0).rstrip() if found else written


def _is(written: str, value: Any) -> bool:
    """Whether a piece of text, read by itself, is that value."""
    try:
        read: object = tomllib.loads(f"x = {written}")["x"]
    except tomllib.TOMLDecodeError:
        return False
    return bool(read == value)
