"""Databases that the clone's own configuration files name, where no service definition does.

Such a file is often only a default that the settings override, so it fills what is empty and never wins over
a value that the template gives: a difference is named, and nothing else.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence

from plainfall.clone.walk import Tree
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.formats.addresses import parse_address
from plainfall.formats.documents import Document, kind_of_file, read_document
from plainfall.formats.values import is_placeholder
from plainfall.patterns import regex
from plainfall.services.definitions import Definition, Interpolated
from plainfall.services.shape import kinds

__all__ = ["find_database_files"]

_FILES = regex(
    r"(^|/)(config/database\.(ya?ml|json)|database\.(ya?ml|json|ini|toml)|alembic\.ini|config/config\.json|"
    r"ormconfig\.(json|ya?ml)|phinx\.(ya?ml|json)|db\.(ya?ml|ini|json|toml))$"
)
_MODES = ("development", "default", "environments.development", "database", "db", "default_env", "")
_PIECES = {
    "user": ("username", "user"),
    "password": ("password", "pass"),
    "name": ("database", "name", "dbname"),
    "port": ("port",),
}
_ADDRESSES = ("alembic.sqlalchemy.url", "sqlalchemy.url", "url", "uri", "dsn")
_COMPUTED = regex(r"<%|%env\(|\$\{|%\(|process\.env")
# Names in the examples that come with such files.
_EXAMPLES = frozenset("user username pass password dbname database driver root".split())


def find_database_files(tree: Tree) -> list[Definition]:
    """A definition for each such file, at most two folders down, that names a database server. A file that
    cannot be read is skipped: it is reported where it is used."""
    results = []
    for path in sorted(tree.files):
        if path.count("/") <= 2 and _FILES.search(path):
            try:
                document = read_document(kind_of_file(path), tree.text(path), path)
            except BadInput:
                continue
            results += list(_definitions(document, path))[:1]
    return results


def _definitions(document: Document, path: str) -> Iterator[Definition]:
    values = {entry.key.lower(): (entry.value, entry.line) for entry in document.entries}
    for key, (value, line) in values.items():
        if key.endswith(_ADDRESSES) and (address := parse_address(value)) is not None:
            kind = _kind(address.scheme)
            if kind and address.user not in _EXAMPLES and not _COMPUTED.search(value):
                pieces = {"user": address.user, "password": address.password, "name": address.name}
                port = str(address.port) if address.port else None
                yield _definition(path, kind, line, {**pieces, "port": port})
    for mode in _MODES:
        prefix = f"{mode}." if mode else ""
        told = _first(values, prefix, ("adapter", "dialect", "type", "driver"))
        kind = _kind(told[0]) if told else None
        if told is None or kind is None:
            continue
        content = {piece: _first(values, prefix, words) for piece, words in _PIECES.items()}
        plain = {piece: one[0] for piece, one in content.items() if one and not _COMPUTED.search(one[0])}
        if plain.get("name"):
            yield _definition(path, kind, told[1], plain)


def _first(
    values: Mapping[str, tuple[str, int]], prefix: str, words: Sequence[str]
) -> tuple[str, int] | None:
    return next((values[prefix + word] for word in words if prefix + word in values), None)


def _kind(word: str) -> str | None:
    return next((one.name for one in kinds() if one.adapter and re.search(one.adapter, word.lower())), None)


def _definition(path: str, kind: str, line: int, pieces: Mapping[str, str | None]) -> Definition:
    place = Evidence(path, line)
    values = {
        piece: Interpolated(value.replace("$", "$$"), place)
        for piece, value in pieces.items()
        if value and not (piece == "password" and is_placeholder(value))
    }
    return Definition(path, kind, place, values, binding=False)
