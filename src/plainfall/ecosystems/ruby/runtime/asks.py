"""Where a Ruby clone asks for a version: one small reader per place."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Callable, Iterator

from plainfall.clone.walk import Tree
from plainfall.ecosystems.ruby.lists.gemfile import gemspec_of, manifest_of, manifest_path
from plainfall.ecosystems.ruby.lists.locks import read_lock
from plainfall.ecosystems.ruby.resolve.versions import requirement
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

__all__ = ["lock_path", "ruby_asks"]

_VERSION = regex(r"(?:ruby-)?v?(\d+)(?:\.(\d+))?(?:\.(\d+))?(?:[-.]?(p\d+|preview\d+|rc\d+|dev))?")
_OTHER = regex(r"(jruby|truffleruby|rbx|mruby|artichoke)[-\d]", re.IGNORECASE)
_PROSE = regex(
    r"\bRuby\s*(?:version\s*)?:?\s*\(?`?\s*(>=|≥|~>)?\s*v?([1-4]\.\d{1,2}(?:\.\d{1,2})?)(\.x)?"
    r"(\s*\+|\s+(?:or|and)\s+(?:later|newer|higher|above|up))?",
    re.IGNORECASE,
)
_IMAGE = regex(r"^\s*(?:FROM|image:)\s+(?:\S+/)?ruby:(\d+\.\d+(?:\.\d+)?)", re.IGNORECASE)
_ARGUMENT = regex(r"^\s*ARG\s+RUBY_VERSION=[\"']?(\d+\.\d+(?:\.\d+)?)", re.IGNORECASE)
_STATED = regex(
    r"(?:ruby[-_]version['\"]?\s*:|image:\s*ruby:|^\s*(?:-\s*)?ruby:|^\s*rvm:)\s*(.+)$", re.IGNORECASE
)


def ruby_asks(tree: Tree, folder: str) -> list[VersionAsk]:
    """All asks for a part, from its folder and, where a place holds for subfolders too, from above it."""
    return [ask for reader in _READERS for ask in reader(tree, folder)]


def lock_path(tree: Tree, folder: str) -> str:
    """The path of the part's lock, "" where it has none."""
    manifest = manifest_path(tree, folder)
    path = f"{manifest}.lock" if manifest.endswith("Gemfile") else posixpath.join(folder, "gems.locked")
    return path if manifest and path in tree else ""


def _specifier(text: str) -> str | None:
    """The requirement of a version as pin files write it: exact with a patch number, else the line."""
    match = _VERSION.fullmatch(text.strip())
    if not match:
        return None
    pieces = [piece for piece in match.groups()[:3] if piece]
    if len(pieces) == 3:
        return f"= {'.'.join(pieces)}"
    return f"~> {'.'.join(pieces)}.0"


def _pinned(text: str, place: Evidence) -> VersionAsk:
    specifier = _specifier(text)
    if _OTHER.match(text):
        raise BadInput(
            f"{text[:40]!r} is another implementation of Ruby, which Plainfall does not start",
            place=place,
            remedy="Name a version of the usual one with --runtime PATH to try it all the same.",
        )
    if specifier is None:
        raise BadInput(
            f"{text[:60]!r} is no Ruby version", place=place, remedy="Write a version such as 3.2 or 3.2.4."
        )
    return VersionAsk(text, specifier, Strength.PIN, "pin file", place)


def _pin_files(tree: Tree, folder: str) -> Iterator[VersionAsk]:
    for path in upwards(folder, ".ruby-version"):
        for number, line in numbered_lines(tree, path):
            text = line.partition("#")[0].strip()
            if text:
                yield _pinned(text, Evidence(path, number, text))
                return


def _tool_versions(tree: Tree, folder: str) -> Iterator[VersionAsk]:
    for text, place in tool_versions(tree, folder, "ruby"):
        yield _pinned(text, place)
        return


def _manifest(tree: Tree, folder: str) -> Iterator[VersionAsk]:
    """The ``ruby`` line of the manifest, in all its forms."""
    found = manifest_of(tree, folder)
    if found is None or found.ruby_place is None:
        return
    if found.engine and found.engine != "ruby":
        raise BadInput(
            f"the manifest wants another implementation of Ruby ({found.engine})",
            place=found.ruby_place,
            remedy="Plainfall starts the usual one. --runtime PATH tries one all the same.",
        )
    texts = found.ruby
    if not texts and found.ruby_file:
        path = posixpath.normpath(posixpath.join(posixpath.dirname(found.path), found.ruby_file))
        lines = [line for _, line in numbered_lines(tree, path) if line.strip()]
        tool = next((re.match(r"^ruby\s+(\S+)", line) for line in lines if line.startswith("ruby")), None)
        text = tool.group(1) if tool else lines[0].strip() if lines else ""
        specifier = _specifier(text)
        if specifier:
            yield VersionAsk(text, specifier, Strength.PIN, "manifest", found.ruby_place)
        return
    if not texts:
        return
    try:
        rule = requirement(", ".join(texts))
    except ValueError as error:
        raise BadInput(
            str(error), place=found.ruby_place, remedy='Write one such as ruby "~> 3.1" or ruby "3.1.2".'
        ) from None
    exact = len(rule.rows) == 1 and rule.rows[0][0] == "="
    strength = Strength.PIN if exact else Strength.RANGE
    # The reference compares a plain version with the runtime's exactly; a release line is what is meant.
    specifier = (_specifier(texts[0].lstrip("= ")) or str(rule)) if exact else str(rule)
    yield VersionAsk(", ".join(texts), specifier, strength, "manifest", found.ruby_place)


def _lock(tree: Tree, folder: str) -> Iterator[VersionAsk]:
    path = lock_path(tree, folder)
    if not path:
        return
    text = read_lock(tree.root, path).ruby
    specifier = _specifier(text) if text else None
    if specifier:
        place = tree.line_of(path, "RUBY VERSION")
        yield VersionAsk(text, specifier, Strength.PREFERENCE, "lock", place)


def _gemspecs(tree: Tree, folder: str) -> Iterator[VersionAsk]:
    for name in tree.folders.get(folder, ()):
        if not name.endswith(".gemspec"):
            continue
        path = within(folder, name)
        try:
            text = gemspec_of(tree.text(path), path)[0].get("ruby", "")
            specifier = str(requirement(text)) if text else ""
        except (BadInput, ValueError):
            continue  # a gemspec is a program: this line of it is not plain
        if specifier:
            place = tree.line_of(path, "required_ruby_version")
            yield VersionAsk(text, specifier, Strength.RANGE, "manifest", place)


_WRITTEN = Written(
    (_IMAGE, _ARGUMENT),
    _STATED,
    regex(r"(?<![\d.])[1-4]\.\d+(?:\.\d+)?"),
    _PROSE,
    _specifier,
    ">= {}",
    ">= 0",
)


def _beside(tree: Tree, folder: str) -> Iterator[VersionAsk]:
    return asks_beside(tree, folder, _WRITTEN)


_READERS: tuple[Callable[[Tree, str], Iterator[VersionAsk]], ...] = (
    _pin_files,
    _tool_versions,
    _manifest,
    _lock,
    _gemspecs,
    _beside,
)
