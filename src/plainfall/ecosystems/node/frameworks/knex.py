"""Knex: migrations and seeds by its own command."""

from __future__ import annotations

import re
from collections.abc import Iterator

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import RANK, FrameworkFound, MigratesFrom
from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.recognise.servers import own_files
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["MIGRATES_FROM", "REPEATABLE", "recognise"]

ORDER = 10

REPEATABLE = regex(r"\bknex\b.* migrate:(latest|up)\b")

MIGRATES_FROM = MigratesFrom(
    regex(r"\bknex\b.* migrate:(latest|up)\b"),
    regex(r"migrations?/[^/]+\.[cm]?[jt]s$"),
    regex(r"(^|/)knexfile\."),
    regex(r"\bdirectory\b"),
)


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part that lists Knex and has a knexfile."""
    files = [path for path in own_files(tree, folder) if re.search(r"(^|/)knexfile\.[cm]?[jt]s$", path)]
    if "knex" not in names or not files:
        return None
    path = min(files, key=lambda one: one.count("/"))
    evidence = Evidence(f"{folder}/{path}" if folder else path, 1)
    return FrameworkFound("Knex", evidence, tuple(_commands(tree, folder, path, evidence)), serves=False)


def _commands(tree: Tree, folder: str, path: str, evidence: Evidence) -> Iterator[Command]:
    option = f" --knexfile {path}" if "/" in path else ""
    for stage, word, made in (("migrations", "migrate:latest", "migrations"), ("seeds", "seed:run", "seeds")):
        if any(re.search(rf"(^|/){made}/[^/]+\.[cm]?[jt]s$", one) for one in own_files(tree, folder)):
            yield Command(stage, f"knex {word}{option}", f"Knex's {made}", RANK, evidence, folder)
