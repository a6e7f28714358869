"""Drizzle: migrations that were generated are run; without any the schema is pushed."""

from __future__ import annotations

import re

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import RANK, FrameworkFound, MigratesFrom
from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.recognise.dev_servers import file_of
from plainfall.ecosystems.node.recognise.servers import own_files
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["MIGRATES_FROM", "REPEATABLE", "recognise"]

ORDER = 14

REPEATABLE = regex(r"\bdrizzle-kit\b.* migrate\b")

MIGRATES_FROM = MigratesFrom(
    regex(r"\bdrizzle-kit\b.* migrate\b"),
    regex(r"meta/_journal\.json$"),
    regex(r"(^|/)drizzle\.config\."),
    regex(r"(?!)"),
)


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part that lists Drizzle's kit and has its configuration."""
    path = file_of(tree, folder, "drizzle.config.*")
    if "drizzle-kit" not in names or path is None:
        return None
    migrated = any(re.search(r"meta/_journal\.json$", one) for one in own_files(tree, folder))
    line = "drizzle-kit migrate" if migrated else "drizzle-kit push"
    why = "Drizzle's migrations" if migrated else "Drizzle's schema, which has no migrations"
    command = Command("migrations", line, why, RANK, Evidence(path, 1), folder)
    return FrameworkFound("Drizzle", command.evidence, (command,), serves=False)
