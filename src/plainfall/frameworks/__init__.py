"""Frameworks, one small module each: how to recognise one, migrate, seed, make an administrator, serve.

A module here offers ``recognise(tree, folder, names)``, which returns a ``FrameworkFound`` or None; ``names``
are the normalised names in the part's dependency list. Adding a framework is adding a module and its name to
``_MODULES``; ``REPEATABLE`` is a pattern of its command for migrations. What needs no framework (process files,
scripts, README steps) is the survey's own.
"""

from __future__ import annotations

import importlib
import re
from collections.abc import Mapping
from dataclasses import dataclass, field

from plainfall.evidence import Evidence
from plainfall.survey.commands import Command
from plainfall.survey.walk import Tree

__all__ = ["Administrator", "FrameworkFound", "RANK", "find_frameworks", "is_repeatable"]

# The order counts: an application that one framework claims is not asked about by the next.
_MODULES: dict[str, tuple[str, ...]] = {
    "python": ("django", "flask", "asgi", "alembic", "wsgi", "script"),
    "node": (
        *("next", "nuxt", "astro", "react_router", "angular", "nest", "vite", "webpack", "node_http"),
        *("knex", "prisma", "sequelize", "typeorm", "drizzle"),
    ),
}

# What may stand beside a migration in one line, and touches no database.
_HARMLESS = re.compile(r"(cd|echo|true|:|export|set)\b|(npx )?prisma generate\b")

# Below a README's own step and a process file's, above a guess from a file's name.
RANK = 55


@dataclass(frozen=True)
class Administrator:
    """How a first administrator account is made without a prompt: the command line, the variables that
    carry its name, address and password, what the output says if the account is there already, and the
    page where it signs in."""

    command: str
    name_variable: str
    email_variable: str
    password_variable: str
    there_already: str
    page: str
    evidence: Evidence


@dataclass(frozen=True)
class FrameworkFound:
    """A recognised framework: its name, the evidence, commands for the stages, variables that its commands
    need, pages worth probing, and how to make an administrator."""

    name: str
    evidence: Evidence
    commands: tuple[Command, ...] = ()
    variables: Mapping[str, str] = field(default_factory=dict)
    pages: tuple[str, ...] = ()
    administrator: Administrator | None = None
    serves: bool = True


def is_repeatable(command: Command, language: str) -> bool:
    """Whether a database command is a framework's own migrations: they only add what is lacking, and may run
    again and again. Of any other command nobody knows what it does to rows that are there."""
    names = _MODULES.get(language, ())
    modules = [importlib.import_module(f"plainfall.frameworks.{name}") for name in names]
    patterns = [pattern for one in modules if (pattern := getattr(one, "REPEATABLE", None)) is not None]
    pieces = [piece for piece in command.pieces if not _HARMLESS.match(piece)]
    return bool(pieces) and all(any(pattern.search(piece) for pattern in patterns) for piece in pieces)


def find_frameworks(tree: Tree, folder: str, language: str, names: frozenset[str]) -> list[FrameworkFound]:
    """Every framework recognised in a part; only the first that serves gives a server command."""
    found: list[FrameworkFound] = []
    for name in _MODULES.get(language, ()):
        module = importlib.import_module(f"plainfall.frameworks.{name}")
        if any(one.serves for one in found) and getattr(module, "ALONE", False):
            continue
        one: FrameworkFound | None = module.recognise(tree, folder, names)
        if one is not None:
            found.append(one)
    return found
