"""Dotenv files, read and written back faithfully.

There is no standard; this follows what the common readers agree on: ``KEY=value`` lines, an optional
``export``, spaces around ``=``, single quotes (literal but for ``\\'`` and ``\\\\``), double quotes (escapes,
several lines), comments at line starts and after a space in unquoted values, ``${KEY}`` and ``${KEY:-other}``
for the value of another key.
"""

from __future__ import annotations

import re
from collections.abc import Mapping

from msgspec import Struct

from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.formats.entries import Entry
from plainfall.patterns import regex

__all__ = ["Dotenv", "parse_dotenv", "quoted"]

_ASSIGNMENT = regex(r"[^\S\r\n]*(?:export[^\S\r\n]+)?([A-Za-z_][\w.-]*)[^\S\r\n]*=[^\S\r\n]*")
# Taken at once and never given back (possessive), since hostile text would be tried in every way otherwise.
_SINGLE = regex(r"'((?:\\['\\]|[^'])*+)")
_DOUBLE = regex(r'"((?:\\.|[^"\\])*)"', re.DOTALL)
_UNQUOTED = regex(r"[^\r\n]*")
_REST = regex(r"[^\r\n]*(?:\r\n|\n|\r|$)")
_MOST = 5_000  # settings of one file
_REFERENCE = regex(r"\$\{([A-Za-z_][\w.-]*)(?::?-([^}]*))?\}")
_ESCAPES = {"n": "\n", "r": "\r", "t": "\t", '"': '"', "\\": "\\", "'": "'", "$": "$", "`": "`"}


class Dotenv(Struct, frozen=True):
    """A file's text and its assignments in order. The last assignment of a key counts."""

    text: str
    entries: tuple[Entry, ...]

    def values(self) -> dict[str, str]:
        """Key to value."""
        return {entry.key: entry.value for entry in self.entries}

    def interpolated(self, outside: Mapping[str, str] | None = None) -> dict[str, str]:
        """Key to value with ``${KEY}`` put in: from the assignments before it, then from ``outside``, else
        the default after ``:-``, else nothing. A value in single quotes is literal."""
        values: dict[str, str] = {}
        for entry in self.entries:
            literal = self.text[entry.start : entry.start + 1] == "'"
            known = {**(outside or {}), **values}
            values[entry.key] = entry.value if literal else _interpolate(entry.value, known)
        return values

    def with_value(self, key: str, value: str) -> Dotenv:
        """The same text with the key's last written value replaced, or with a new line at the end."""
        results = [entry for entry in self.entries if entry.key == key]
        if results:
            entry = results[-1]
            before = self.text[entry.start : entry.start + 1]
            return parse_dotenv(self.text[: entry.start] + quoted(value, before) + self.text[entry.end :])
        return self.with_lines([f"{key}={quoted(value)}"])

    def with_lines(self, lines: list[str]) -> Dotenv:
        """The same text with lines added at the end, in the file's own line ends."""
        ending = "\r\n" if "\r\n" in self.text else "\n"
        text = self.text
        if text and not text.endswith(("\n", "\r")):
            text += ending
        return parse_dotenv(text + "".join(line + ending for line in lines))


def quoted(value: str, style: str = "") -> str:
    """The value as it is written: plain where every reader takes it so, else in quotes; with a quote as
    ``style``, in that one where it can be."""
    plain = value == "" or re.fullmatch(r"[\w./:@%+,=~^*!?&;()\[\]{}|<>-]+", value)
    if plain and style not in ("'", '"'):
        return value
    if style != '"' and "'" not in value and "\n" not in value and "\\" not in value and "\r" not in value:
        return f"'{value}'"
    escaped = value.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n").replace("\r", "\\r")
    return f'"{escaped}"'


def _interpolate(value: str, known: Mapping[str, str]) -> str:
    def put_in(match: re.Match[str]) -> str:
        content = known.get(match.group(1))
        return content if content is not None else match.group(2) or ""

    return _REFERENCE.sub(put_in, value)


def parse_dotenv(text: str, path: str = ".env") -> Dotenv:
    """Reads a text. Lines that are no assignment are kept and carry no value, as the common readers do.

    Raises BadInput, with the line, for a quoted value that is never closed.
    """
    entries: list[Entry] = []
    comment: list[str] = []
    position = 1 if text.startswith("\ufeff") else 0
    line = 1
    while position < len(text):
        match = _ASSIGNMENT.match(text, position)
        if match:
            value, start, end, after = _value(text, match.end(), path, line)
            if len(entries) >= _MOST:
                raise BadInput(
                    f"it holds more than {_MOST:,} settings, which is more than is read",
                    place=Evidence(path, line),
                    remedy="Restore the file from version control, or take out what is no setting.",
                )
            entries.append(Entry(match.group(1), value, line, "\n".join(comment), start, end))
            comment = []
        else:
            after = position
        rest = _REST.match(text, after)
        assert rest is not None  # the pattern matches anywhere, even nothing
        if not match:
            stripped = rest.group().strip()
            if stripped.startswith("#"):
                comment.append(stripped.lstrip("#").strip())
            else:
                comment = []
        line += len(text[position : rest.end()].splitlines()) or 1
        position = max(rest.end(), position + 1)
    return Dotenv(text, tuple(entries))


def _value(text: str, start: int, path: str, line: int) -> tuple[str, int, int, int]:
    """The value at a position: (value, start and end of what is written, where reading goes on)."""
    quote = text[start : start + 1]
    if quote in ("'", '"'):
        inner = _quoted(text, start, quote)
        if inner is not None:
            value = re.sub(r"\\(['\\])", r"\1", inner) if quote == "'" else _unescaped(inner)
            end = start + len(inner) + 2
            return value, start, end, end
        raise BadInput(
            f"the value opens with {quote} and is never closed",
            place=Evidence(path, line),
            remedy="Close the quote at the end of the value.",
        )
    plain = _UNQUOTED.match(text, start)
    assert plain is not None  # the pattern matches anywhere, even nothing
    comment = re.search(r"(?<!\S)#", plain.group())
    written = plain.group()[: comment.start()].rstrip() if comment else plain.group().rstrip()
    return written, start, start + len(written), plain.end()


def _quoted(text: str, start: int, quote: str) -> str | None:
    """What stands between the quotes, as it is written; None if they are never closed. Where only an escaped
    single quote is left, that one closes, as the common readers have it."""
    if quote == '"':
        match = _DOUBLE.match(text, start)
        return match.group(1) if match else None
    single = _SINGLE.match(text, start)
    inner = single.group(1) if single else ""
    if text[start + 1 + len(inner) : start + 2 + len(inner)] == "'":
        return inner
    last = inner.rfind("\\'")
    return inner[: last + 1] if last >= 0 else None


def _unescaped(inner: str) -> str:
    return re.sub(
        r"\\(.)", lambda match: _ESCAPES.get(match.group(1), match.group(0)), inner, flags=re.DOTALL
    )
