"""The frameworks of every language: modules in the folder ``frameworks`` of the language, found by walking it.

A module there offers ``recognise(tree, folder, names)``, which returns a ``FrameworkFound`` or None; ``names``
are the normalised names in the part's dependency list. ``ORDER`` (0 where it is not given) says which is asked
first: an application that one framework claims is not asked about by the next. ``ALONE`` marks one that counts only
where no other serves, ``REPEATABLE`` is a pattern of its command for migrations. What needs no framework (process
files, scripts, README steps) is the survey's own.
"""

from __future__ import annotations

import importlib
import pkgutil
import re
from functools import cache
from types import ModuleType

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import FrameworkFound
from plainfall.clone.walk import Tree

__all__ = ["find_frameworks", "is_repeatable"]

# What may stand beside a migration in one line, and touches no database.
_HARMLESS = re.compile(r"(cd|echo|true|:|export|set)\b|(npx )?prisma generate\b")


@cache
def _modules(language: str) -> tuple[ModuleType, ...]:
    """The modules of a language's frameworks, in their order; none for a language without that folder."""
    try:
        package = importlib.import_module(f"plainfall.ecosystems.{language}.frameworks")
    except ModuleNotFoundError:
        return ()
    names = [one.name for one in pkgutil.iter_modules(package.__path__)]
    modules = [importlib.import_module(f"{package.__name__}.{name}") for name in names]
    return tuple(sorted(modules, key=lambda one: (getattr(one, "ORDER", 0), one.__name__)))


def is_repeatable(command: Command, language: str) -> bool:
    """Whether a database command is a framework's own migrations: they only add what is lacking, and may run
    again and again. Of any other command nobody knows what it does to rows that are there."""
    patterns = [
        pattern for one in _modules(language) if (pattern := getattr(one, "REPEATABLE", None)) is not None
    ]
    pieces = [piece for piece in command.pieces if not _HARMLESS.match(piece)]
    return bool(pieces) and all(any(pattern.search(piece) for pattern in patterns) for piece in pieces)


def find_frameworks(tree: Tree, folder: str, language: str, names: frozenset[str]) -> list[FrameworkFound]:
    """Every framework recognised in a part; only the first that serves gives a server command."""
    found: list[FrameworkFound] = []
    for module in _modules(language):
        if any(one.serves for one in found) and getattr(module, "ALONE", False):
            continue
        one: FrameworkFound | None = module.recognise(tree, folder, names)
        if one is not None:
            found.append(one)
    return found
