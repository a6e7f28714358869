"""A walk through the clone that honours ignore rules and leaves environments and vendored trees alone."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING

from plainfall.evidence import Evidence
from plainfall.ignoring import ignore_rules
from plainfall.patterns import regex
from plainfall.plain_files import plain_text
from plainfall.reading import clone_text, is_replaced

if TYPE_CHECKING:
    from pathspec import GitIgnoreSpec

__all__ = ["Tree", "is_aside", "is_side", "walk"]

_SKIPPED = frozenset(
    ".git .hg .svn .plainfall node_modules bower_components __pycache__ site-packages .tox .nox "
    ".mypy_cache .ruff_cache .pytest_cache .idea .gradle .bundle".split()
)
# Folders that belong to a project and are none: documents, tests, examples, what others made.
_ASIDE = (
    r"vendor|wp-includes|wp-content|(?:third|3rd)[-_]?part(?:y|ies)|external|contrib|docs?|examples?|samples?|demos?|sandbox|tutorials?|tests?|testing|benchmarks?|"
    r"\.[^/]+"
)
_SIDE = regex(rf"(^|/)({_ASIDE}|requirements|scripts|tools)(/|$)", re.IGNORECASE)
# Of other languages' parts: those, and where a program keeps copies of published packages that its pages load.
_ANOTHERS = regex(
    rf"(^|/)({_ASIDE})(/|$)|"
    r"(^|/)(static|public|assets|media|www|web|htdocs|res|resources)/(.+/)?"
    r"(components|libs?|vendors?|plugins|packages|js|bower|themes)/",
    re.IGNORECASE,
)
_DEEPEST = 8
_MOST = 50_000
_LARGEST_RULES = 1024 * 1024
_LARGEST_TEXT = 2 * 1024 * 1024


@dataclass(frozen=True)
class Tree:
    """The clone's files, ignored ones left out: paths relative to ``root``, sorted, with forward slashes.

    ``cut`` tells that the clone holds more files than are looked at. ``named`` is a folder that the person named
    and that is usually a side of a project (an example, a demo): it counts as a project of its own ("": none is).
    """

    root: Path
    files: tuple[str, ...]
    cut: bool = False
    named: str = ""
    _texts: dict[str, str] = field(default_factory=dict, repr=False, compare=False)

    @cached_property
    def _set(self) -> frozenset[str]:
        return frozenset(self.files)

    def __contains__(self, path: str) -> bool:
        return path in self._set

    @cached_property
    def folders(self) -> dict[str, list[str]]:
        """Folder (``""`` is the clone itself) to the names of the files directly in it."""
        folders: dict[str, list[str]] = {}
        for path in self.files:
            folder, _, name = path.rpartition("/")
            folders.setdefault(folder, []).append(name)
        return folders

    def of_named(self, folder: str) -> Tree:
        """The same tree with a folder named; what was read and counted is shared."""
        tree = replace(self, named=folder)
        tree.__dict__.update(
            {name: self.__dict__[name] for name in ("_set", "folders") if name in self.__dict__}
        )
        return tree

    def in_named(self, folder: str) -> str | None:
        """The path of a folder from the named one, None for a folder outside of that."""
        if not self.named:
            return folder
        if folder == self.named:
            return ""
        inside = folder.startswith(f"{self.named}/")
        return folder[len(self.named) + 1 :] if inside else None

    def below(self, folder: str) -> Iterator[str]:
        """Paths of the files in a folder and its subfolders, relative to that folder."""
        prefix = f"{folder}/" if folder else ""
        for path in self.files:
            if path.startswith(prefix):
                yield path[len(prefix) :]

    def text(self, path: str) -> str:
        """A file's text (UTF-8, byte-order mark taken off), read once.

        Raises BadInput if it does not exist, is no text, or is larger than 2 MiB.
        """
        if path not in self._texts:
            self._texts[path] = clone_text(self.root, path, _LARGEST_TEXT)
        return self._texts[path]

    def replaced(self) -> list[str]:
        """The files among those that were read in which something is not of the coding that they should have, and
        became replacement characters."""
        return sorted(path for path, text in self._texts.items() if is_replaced(text))

    def forget(self, path: str) -> None:
        """Drops what was read of a file that may have changed since."""
        self._texts.pop(path, None)

    def line_of(self, path: str, piece: str) -> Evidence:
        """The first line that holds a piece of text, as evidence."""
        for number, line in enumerate(self.text(path).splitlines(), 1):
            if piece in line:
                return Evidence(path, number, line.strip())
        return Evidence(path)


def is_side(folder: str) -> bool:
    """Whether a folder is, or lies in, one that belongs to a project and is none: documents, tests, examples."""
    return _SIDE.search(folder) is not None


def is_aside(folder: str) -> bool:
    """Whether a folder below a part is no part of it, in whatever language: its documents, an example, a copy of
    another project's package. Its tools may be one."""
    return _ANOTHERS.search(folder) is not None


def walk(root: Path) -> Tree:
    """Looks through the clone. Links to folders are not followed, unreadable folders are skipped."""
    files: list[str] = []
    for path in _walk(root, "", [], 0):
        if len(files) >= _MOST:
            return Tree(root, tuple(sorted(files)), cut=True)
        files.append(path)
    return Tree(root, tuple(sorted(files)))


def _walk(root: Path, folder: str, rules: list[tuple[str, GitIgnoreSpec]], depth: int) -> Iterator[str]:
    try:
        entries = sorted(os.scandir(root / folder), key=lambda entry: entry.name)
    except OSError:
        return  # a folder that we may not read has nothing that we could use
    names = {entry.name for entry in entries}
    if folder and "pyvenv.cfg" in names:
        return
    if ".gitignore" in names or (not folder and (root / ".git/info/exclude").is_file()):
        rules = rules + _rules(root, folder)
    for entry in entries:
        path = f"{folder}/{entry.name}" if folder else entry.name
        is_folder = entry.is_dir(follow_symlinks=False)
        if entry.name in _SKIPPED or _ignored(path, rules, is_folder):
            continue
        if is_folder:
            if depth < _DEEPEST and not _vendored(entry.name, entry.path):
                yield from _walk(root, path, rules, depth + 1)
        elif entry.is_file(follow_symlinks=True):
            yield path


def _vendored(name: str, path: str) -> bool:
    """``vendor`` that a package tool fills: it holds a loader or a list of modules, not the clone's code."""
    return name == "vendor" and any(
        os.path.exists(os.path.join(path, mark)) for mark in ("autoload.php", "modules.txt", "bundle")
    )


def _rules(root: Path, folder: str) -> list[tuple[str, GitIgnoreSpec]]:
    lines: list[str] = []
    places = [root / folder / ".gitignore"]
    if not folder:
        places.insert(0, root / ".git/info/exclude")
    for place in places:
        try:
            lines += plain_text(place, "utf-8", "replace", largest=_LARGEST_RULES).splitlines()
        except OSError:
            continue  # not there, or a folder of that name: no rules
    return [(folder, ignore_rules(lines))]


def _ignored(path: str, rules: list[tuple[str, GitIgnoreSpec]], is_folder: bool) -> bool:
    """The last rule that speaks of the path decides; deeper files' rules come later (gitignore(5))."""
    ignored = False
    for folder, spec in rules:
        inner = str(PurePosixPath(path).relative_to(folder)) if folder else path
        verdict = spec.check_file(f"{inner}/" if is_folder else inner).include
        if verdict is not None:
            ignored = verdict
    return ignored
