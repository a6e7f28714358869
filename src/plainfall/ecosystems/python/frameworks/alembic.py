"""Alembic on its own: ``alembic.ini`` says where the migrations are."""

from __future__ import annotations

import re

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import RANK, FrameworkFound, MigratesFrom
from plainfall.clone.walk import Tree
from plainfall.patterns import regex

__all__ = ["MIGRATES_FROM", "REPEATABLE", "recognise"]

ORDER = 4

REPEATABLE = regex(r"\balembic\b.*\bupgrade\b")

# Its configuration says where they are; without one (or with one in the package's own list) it knows none.
MIGRATES_FROM = MigratesFrom(
    regex(r"\balembic\b.*\bupgrade\b"),
    regex(r"(^|/)alembic(_\w+)?\.ini$"),
    regex(r"(^|/)(pyproject\.toml|[\w-]+\.(ini|cfg))$"),
    regex(r"^\[tool\.alembic\]|^\s*script_location\s*=", re.MULTILINE),
)


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part with an ``alembic.ini`` of its own (Flask-Migrate keeps one inside its folder)."""
    path = f"{folder}/alembic.ini" if folder else "alembic.ini"
    if path not in tree:
        return None
    evidence = tree.line_of(path, "script_location")
    command = Command("migrations", "alembic upgrade head", "Alembic's migrations", RANK, evidence, folder)
    return FrameworkFound("Alembic", evidence, (command,), serves=False)
