"""Which classes a PHP file declares, and the class maps of folders: a small lexer.

Comments, strings, here-documents and text outside of PHP are passed over; what is left is looked through for
namespaces and for declarations of classes, interfaces, traits and enumerations.
"""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Iterator, Sequence
from pathlib import Path

from plainfall.patterns import regex
from plainfall.plain_files import plain_bytes

__all__ = ["Rows", "classes_in", "excluded", "scan"]

Rows = list[tuple[str, list[str]]]  # path from the scanned folder, and the classes that it declares
_ENDINGS = (".php", ".inc", ".hh")
_LARGEST = 8 * 1024**2  # bytes of a source file
# Whatever declares something looks so (in lower case: matching without case costs five times as much); the last
# place that does ends what has to be read of a file.
_MAY_DECLARE = regex(
    rb"(?:class|interface|trait|enum)\s++[a-z_\x80-\xff][\w\x80-\xff]*+\s*+(?:[{:/\#]|extends\b|implements\b|\Z)"
)
# Each repetition below ends at the first place where it can, so that it need not be possessive to be right; being
# so saves memory. Before 3.11.5 the standard library matched possessive groups that hold alternatives wrongly.
_MANY = b"*+" if sys.version_info >= (3, 11, 5) else b"*"
_PASSED = regex(
    rb"""
      /\*(?:[^*]++|\*(?!/))@(?:\*/|\Z)
    | //(?:[^?\r\n]++|\?(?!>))@
    | \#(?!\[)(?:[^?\r\n]++|\?(?!>))@
    | '(?:[^'\\]++|\\(?:.|\Z))@(?:'|\Z)
    | "(?:[^"\\]++|\\(?:.|\Z))@(?:"|\Z)
    | `(?:[^`\\]++|\\(?:.|\Z))@(?:`|\Z)
    | <<<[ \t]*+(?P<quote>["']?)(?P<label>[A-Za-z_\x80-\xff][\w\x80-\xff]*+)(?P=quote)\r?\n
      (?:(?![ \t]*+(?P=label)(?![\w\x80-\xff]))[^\n]*+(?:\n|\Z))@[ \t]*+(?P=label)?
    | \?>(?:[^<]++|<(?!\?(?:[pP][hH][pP]\b|=)))@(?:<\?(?:[pP][hH][pP]\b|=)|\Z)
    """.replace(b"@", _MANY),
    re.VERBOSE | re.DOTALL,
)
_OPENING = regex(rb"<\?(?:[pP][hH][pP]\b|=)")
_DECLARED = regex(
    rb"""
      (?<![\\$:>\w\x80-\xff])(?:
          (?:class|interface|trait|enum)\s++(?P<name>[a-z_\x80-\xff][\w\x80-\xff]*+)
        | namespace(?P<space>\s++[\w\x80-\xff\\\s]*+)?\s*+[{;]
      )
    """,
    re.VERBOSE,
)


def classes_in(source: bytes) -> list[str]:
    """The names, with their namespaces, of what a file declares, in order."""
    places = [match.end() for match in _MAY_DECLARE.finditer(source.lower())]
    opening = _OPENING.search(source) if places else None
    if opening is None:
        return []
    text = _PASSED.sub(b" ", source[opening.end() : places[-1]])
    space, found = b"", []
    for match in _DECLARED.finditer(text.lower()):
        start, end = match.span("name")
        if start < 0:
            start, end = match.span("space")
            space = re.sub(rb"\s+", b"", text[start:end]) if start >= 0 else b""
            space += b"\\" if space else b""
        elif match["name"] not in (b"extends", b"implements"):
            found.append((space + text[start:end]).decode("utf-8", "surrogateescape"))
    return found


def scan(folder: Path, inner: str) -> Rows:
    """The classes of every PHP file at a path of a folder (a file, or a folder with all below it), by their paths
    from the folder. Links are not followed."""
    start = folder / inner if inner else folder
    if start.is_symlink():
        return []
    paths = [start] if start.is_file() else _files(start)
    rows: Rows = []
    for path in paths:
        found = _classes_of(path)
        if found:
            rows.append((path.relative_to(folder).as_posix(), found))
    return rows


def _classes_of(path: Path) -> list[str]:
    status = path.stat()
    if status.st_size > _LARGEST:
        return []
    return classes_in(plain_bytes(path))


def _files(folder: Path) -> Iterator[Path]:
    for root, folders, names in os.walk(folder):
        folders[:] = sorted(one for one in folders if one not in (".git", ".svn", ".hg"))
        for name in sorted(names):
            path = Path(root, name)
            if name.endswith(_ENDINGS) and path.is_file() and not path.is_symlink():
                yield path


def excluded(patterns: Sequence[str]) -> re.Pattern[str] | None:
    """What an autoload section's ``exclude-from-classmap`` leaves out, of paths from the package's folder: ``*``
    stands for a piece of a path, ``**`` for any."""
    pieces = []
    for pattern in patterns:
        plain = re.sub(r"/+", "/", pattern.replace("\\", "/")).strip("/")
        if plain.startswith(("./", "../")):
            continue  # another package's files are not this one's to leave out
        text = re.escape(plain).replace(r"\*\*", ".+?").replace(r"\*", "[^/]+?")
        pieces.append(f"{text}(?:$|/)")
    return re.compile("|".join(pieces)) if pieces else None
