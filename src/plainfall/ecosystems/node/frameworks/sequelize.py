"""Sequelize: migrations and seeders by its command line."""

from __future__ import annotations

import re

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import RANK, FrameworkFound, MigratesFrom
from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.recognise.servers import own_files
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["MIGRATES_FROM", "REPEATABLE", "recognise"]

ORDER = 12

REPEATABLE = regex(r"\bsequelize(-cli)?\b.* db:migrate(?!:undo)\b")

MIGRATES_FROM = MigratesFrom(
    regex(r"\bsequelize(-cli)?\b.* db:migrate(?!:undo)\b"),
    regex(r"migrations?/[^/]+\.[cm]?[jt]s$"),
    regex(r"(^|/)\.sequelizerc$"),
    regex(r"migrations-path"),
)


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part that lists Sequelize's command line and has migrations or seeders."""
    if "sequelize-cli" not in names:
        return None
    commands = []
    for stage, word, made in (
        ("migrations", "db:migrate", "migrations"),
        ("seeds", "db:seed:all", "seeders"),
    ):
        pattern = re.compile(rf"(^|/){made}/[^/]+\.[cm]?[jt]s$")
        path = next((one for one in own_files(tree, folder) if pattern.search(one)), None)
        if path:
            place = Evidence(f"{folder}/{path}" if folder else path, 1)
            commands.append(Command(stage, f"sequelize {word}", f"Sequelize's {made}", RANK, place, folder))
    return (
        FrameworkFound("Sequelize", commands[0].evidence, tuple(commands), serves=False) if commands else None
    )
