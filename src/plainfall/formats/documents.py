"""Configuration files of any kind as one shape: keys joined with dots, values as text, where each stands.

A value is replaced where it stands, so that all else of the file (order, comments, spacing) stays as it is.
"""

from __future__ import annotations

import json
import re
from typing import Protocol

from msgspec import Struct

from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.formats.dotenv import parse_dotenv
from plainfall.formats.entries import Entry

__all__ = ["Document", "Structured", "kind_of_file", "read_document"]

_KINDS = {
    ".yml": "yaml",
    ".yaml": "yaml",
    ".json": "json",
    ".toml": "toml",
    ".ini": "ini",
    ".cfg": "ini",
    ".conf": "ini",
    ".php": "php",
}


class Document(Protocol):
    """A configuration file's text and its assignments."""

    @property
    def text(self) -> str:
        """The full text."""
        ...

    @property
    def entries(self) -> tuple[Entry, ...]:
        """The assignments in order; an entry whose ``start`` is negative cannot be replaced in place."""
        ...

    def values(self) -> dict[str, str]:
        """Key to value."""
        ...

    def with_value(self, key: str, value: str) -> Document:
        """The same text with one value replaced. Raises KeyError if the key is not there (a dotenv file gets
        a new line instead)."""
        ...


class Structured(Struct, frozen=True):
    """A YAML, JSON, TOML, INI or PHP file (``kind``)."""

    kind: str
    path: str
    text: str
    entries: tuple[Entry, ...]

    def values(self) -> dict[str, str]:
        """Key to value."""
        return {entry.key: entry.value for entry in self.entries}

    def with_value(self, key: str, value: str) -> Structured:
        """The same text with one value replaced where it stands. Raises KeyError."""
        entry = next((one for one in reversed(self.entries) if one.key == key and one.start >= 0), None)
        if entry is None:
            raise KeyError(key)
        before = self.text[entry.start : entry.end]
        written = _written(self.kind, before, value)
        made = read_document(
            self.kind, self.text[: entry.start] + written + self.text[entry.end :], self.path
        )
        assert isinstance(made, Structured)
        return made


def kind_of_file(path: str) -> str:
    """ "dotenv", "yaml", "json", "toml", "ini" or "php" by a file's name; "" for any other."""
    name = path.rpartition("/")[2].lower()
    ending = f".{name.rpartition('.')[2]}"
    if ending in _KINDS and name.count(".") >= 1 and not name.startswith(".env"):
        return _KINDS[ending]
    return "dotenv" if re.search(r"(^|\.)env([.-]|$)|^\.env", name) else ""


def read_document(kind: str, text: str, path: str) -> Document:
    """Reads a text of that kind. Raises BadInput with the line that cannot be understood."""
    if kind == "dotenv":
        return parse_dotenv(text, path)
    if kind == "yaml":
        from plainfall.formats.yaml_file import yaml_entries as entries_of
    elif kind == "json":
        from plainfall.formats.json_file import json_entries as entries_of
    elif kind == "toml":
        from plainfall.formats.toml_file import toml_entries as entries_of
    elif kind == "ini":
        from plainfall.formats.ini_file import ini_entries as entries_of
    elif kind == "php":
        from plainfall.formats.php_file import php_entries as entries_of
    else:
        raise BadInput(f"no reader for files of kind {kind!r}", place=Evidence(path))
    return Structured(kind, path, text, tuple(entries_of(text, path)))


def _written(kind: str, before: str, value: str) -> str:
    """A value as it is written in place of another: bare where that one was and the new one can be."""
    quote = before[:1]
    bare_before = quote not in ("'", '"')
    is_number = re.fullmatch(r"-?\d+(\.\d+)?", value) is not None
    is_literal = is_number or value in ("true", "false")
    if kind == "ini":
        if "\n" in value or "\r" in value:
            raise BadInput(
                "a value of several lines cannot stand in an INI file", remedy="Write it by hand, indented."
            )
        return value
    if kind == "yaml" and before == "":
        return f" {_written(kind, 'x', value)}"
    if kind == "yaml":
        word = value.lower() not in ("yes", "no", "on", "off", "null", "true", "false")
        word = word and re.fullmatch(r"[A-Za-z/][\w./@+~-]*(:[\w/@][\w./:@+~-]*)?", value) is not None
        if bare_before and (is_literal or word):
            return value
        if quote == "'" and "\n" not in value:
            return "'" + value.replace("'", "''") + "'"
        return json.dumps(value, ensure_ascii=False)
    if bare_before and is_literal:
        return value
    if kind == "php":
        return "'" + value.replace("\\", "\\\\").replace("'", "\\'") + "'"
    if kind == "toml" and quote == "'" and "'" not in value and "\n" not in value:
        return f"'{value}'"
    return json.dumps(value, ensure_ascii=False)
