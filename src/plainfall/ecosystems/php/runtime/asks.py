"""Where a PHP clone asks for a version: one small reader per place."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from functools import cache

from plainfall.clone.walk import Tree
from plainfall.ecosystems.php.lists.manifests import LOCK, MANIFEST, config_of, manifest, mapping, read_lock
from plainfall.ecosystems.php.resolve.versions import admits, is_constraint
from plainfall.ecosystems.shared.version_files import (
    Written,
    asks_beside,
    numbered_lines,
    tool_versions,
    upwards,
    within,
)
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex
from plainfall.runtimes.asks import Strength, VersionAsk

__all__ = ["php_asks"]

_VERSION = regex(r"v?(\d+)(?:\.(\d+))?(?:\.(\d+))?")
_PROSE = regex(
    r"\bPHP\s*(?:version\s*)?\(?\s*(>=|≥|\^|~)?\s*v?([5-9]\.\d{1,2}(?:\.\d+)?|[7-9])(\.x)?"
    r"(\s*\+|\s+(?:or|and)\s+(?:later|newer|higher|above|up))?",
    re.IGNORECASE,
)
_IMAGE = regex(r"^\s*(?:FROM|image:)\s+(?:\S+/)?php:(\d+\.\d+(?:\.\d+)?)", re.IGNORECASE)
_STATED = regex(r"(?:php[-_]versions?['\"]?\s*:|image:\s*php:|^\s*(?:-\s*)?php:)\s*(.+)$", re.IGNORECASE)


def php_asks(tree: Tree, folder: str) -> list[VersionAsk]:
    """All asks for a part, from its folder and, where a place holds for subfolders too, from above it."""
    return [ask for reader in _READERS for ask in reader(tree, folder)]


def _specifier(text: str) -> str | None:
    """The constraint of a version as pin files write it: exact with a patch number, else the line."""
    match = _VERSION.fullmatch(text.strip())
    if not match:
        return None
    pieces = [piece for piece in match.groups() if piece]
    return ".".join(pieces) if len(pieces) == 3 else f"{'.'.join(pieces)}.*"


def _pin_files(tree: Tree, folder: str) -> Iterator[VersionAsk]:
    for path in upwards(folder, ".php-version"):
        for number, line in numbered_lines(tree, path):
            text = line.partition("#")[0].strip()
            if not text:
                continue
            specifier = _specifier(text)
            place = Evidence(path, number, text)
            if specifier is None:
                raise BadInput(
                    f"{text[:60]!r} is no PHP version",
                    place=place,
                    remedy="Write a version such as 8.2 or 8.2.7.",
                )
            yield VersionAsk(text, specifier, Strength.PIN, "pin file", place)
            return


def _tool_versions(tree: Tree, folder: str) -> Iterator[VersionAsk]:
    for text, place in tool_versions(tree, folder, "php"):
        specifier = _specifier(text)
        if specifier:
            yield VersionAsk(text, specifier, Strength.PIN, "pin file", place)
            return


def _manifest(tree: Tree, folder: str) -> Iterator[VersionAsk]:
    """``require.php``, and the version that the manifest pretends to have while versions are chosen."""
    document, path = manifest(tree, folder), within(folder, MANIFEST)
    text = mapping(document.get("require")).get("php")
    if isinstance(text, str) and text.strip():
        place = tree.line_of(path, '"php"')
        if not is_constraint(text):
            raise BadInput(
                f"require.php is {text[:60]!r}, which is no version constraint",
                place=place,
                remedy='Write one such as "^8.1" or ">=8.1 <8.4".',
            )
        yield VersionAsk(text, text, Strength.RANGE, "manifest", place)
    pretended = mapping(config_of(document, "platform", {})).get("php")
    match = re.match(r"\d+\.\d+", pretended) if isinstance(pretended, str) else None
    if match:
        place = tree.line_of(path, '"platform"')
        yield VersionAsk(str(pretended), f"{match.group()}.*", Strength.PREFERENCE, "manifest", place)


def _lock(tree: Tree, folder: str) -> Iterator[VersionAsk]:
    """What the lock's packages need: a runtime that one of them does not admit cannot run the clone. Of those that
    admit the same release lines one speaks for all, and what admits all that the manifest does says nothing.
    Packages for development alone only say what is better: they can be left out."""
    path = within(folder, LOCK)
    if path not in tree:
        return
    own = mapping(manifest(tree, folder).get("require")).get("php")
    allowed = _lines_of(own) if isinstance(own, str) and is_constraint(own) else frozenset(_LINES)
    seen = set()
    packages = read_lock(tree.root, path).packages
    for one in sorted(packages, key=lambda one: one.is_dev):
        text = one.requires.get("php", "")
        if not text or not is_constraint(text):
            continue
        lines = _lines_of(text)
        if lines >= allowed or lines in seen:
            continue
        seen.add(lines)
        place = Evidence(path, 1, f"{one.label} needs PHP {text}")
        strength = Strength.PREFERENCE if one.is_dev else Strength.RANGE
        yield VersionAsk(f"{text} of {one.label}", text, strength, "lock", place)


_LINES = tuple(
    f"{major}.{minor}.99" for major, last in ((5, 6), (7, 4), (8, 9), (9, 9)) for minor in range(last + 1)
)


@cache
def _lines_of(text: str) -> frozenset[str]:
    return frozenset(line for line in _LINES if admits(text, line))


_WRITTEN = Written(
    (_IMAGE,), _STATED, regex(r"(?<![\d.])[5-9]\.\d+(?:\.\d+)?"), _PROSE, _specifier, ">={}", "*"
)


def _beside(tree: Tree, folder: str) -> Iterator[VersionAsk]:
    return asks_beside(tree, folder, _WRITTEN)


_READERS: tuple[Callable[[Tree, str], Iterator[VersionAsk]], ...] = (
    _pin_files,
    _tool_versions,
    _manifest,
    _lock,
    _beside,
)
