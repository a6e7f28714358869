"""The frameworks of every language: modules in the folder ``frameworks`` of the language, found by walking it.

A module there offers ``recognise(tree, folder, names)``, which returns a ``FrameworkFound`` or None; ``names``
are the normalised names in the part's dependency list. ``ORDER`` (0 where it is not given) says which is asked
first: an application that one framework claims is not asked about by the next. ``ALONE`` marks one that counts only
where no other serves, ``REPEATABLE`` is a pattern of its command for migrations, ``MIGRATES_FROM`` says which files
that works through, ``MADE_BY_MIGRATIONS`` matches those that it writes. What needs no framework (process
files, scripts, README steps) is the survey's own.

``TRAITS`` of a module hold what is known of the framework beyond a part, and
``reload_channel(paths, body, text_of)`` gives the channel that a page of it opens, told from the paths of what the
page loads and its text (``text_of`` fetches another).
"""

from __future__ import annotations

import importlib
import importlib.util
import pkgutil
from collections.abc import Iterable, Iterator
from functools import cache
from types import ModuleType

from msgspec.structs import replace

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import FrameworkFound, MigratesFrom, Traits
from plainfall.clone.walk import Tree, is_side
from plainfall.ecosystems import languages
from plainfall.errors import BadInput
from plainfall.patterns import regex
from plainfall.server.reload_channel import ChannelFinder

__all__ = [
    "every_traits",
    "find_frameworks",
    "is_made_by_migrations",
    "is_repeatable",
    "reload_channels",
    "without_files",
]

# Commands that may be combined with a migration in one line and touch no database.
_HARMLESS = regex(r"(cd|echo|touch|true|:|export|set)\b|(npx )?prisma generate\b")


@cache
def _modules(language: str) -> tuple[ModuleType, ...]:
    """The modules of a language's frameworks, in their order; none for a language without that folder."""
    name = f"plainfall.ecosystems.{language}.frameworks"
    if importlib.util.find_spec(name) is None:
        return ()
    package = importlib.import_module(name)
    names = [one.name for one in pkgutil.iter_modules(package.__path__)]
    modules = [importlib.import_module(f"{package.__name__}.{name}") for name in names]
    return tuple(sorted(modules, key=lambda one: (getattr(one, "ORDER", 0), one.__name__)))


@cache
def _all_modules() -> tuple[ModuleType, ...]:
    return tuple(module for language in languages() for module in _modules(language.name))


@cache
def every_traits() -> tuple[Traits, ...]:
    """The traits of every framework of every language."""
    return tuple(module.TRAITS for module in _all_modules() if hasattr(module, "TRAITS"))


def reload_channels() -> tuple[ChannelFinder, ...]:
    """What finds the reload channels of the frameworks that have one."""
    return tuple(module.reload_channel for module in _all_modules() if hasattr(module, "reload_channel"))


def is_repeatable(command: Command, language: str) -> bool:
    """Whether a database command is a framework's own migrations: they only add what is missing, and may run
    again and again. What any other command does to existing rows is unknown."""
    patterns = [
        pattern for one in _modules(language) if (pattern := getattr(one, "REPEATABLE", None)) is not None
    ]
    pieces = [piece for piece in command.pieces if not _HARMLESS.match(piece)]
    return bool(pieces) and all(any(pattern.search(piece) for pattern in patterns) for piece in pieces)


def is_made_by_migrations(path: str, language: str) -> bool:
    """Whether a framework's migrations write that file themselves (a path in the part), so that it decides
    nothing."""
    patterns = (getattr(one, "MADE_BY_MIGRATIONS", None) for one in _modules(language))
    return any(pattern.search(path) for pattern in patterns if pattern is not None)


def without_files(tree: Tree, folder: str, language: str, commands: Iterable[Command]) -> Iterator[Command]:
    """The commands; a framework's migrations that have no files to work through come last, and say so."""
    places = [one.MIGRATES_FROM for one in _modules(language) if hasattr(one, "MIGRATES_FROM")]
    commands = list(commands)
    scripts = {one.line: one.script for one in commands if one.script}
    for command in commands:
        text = scripts.get(command.line) or command.line
        meant = [one for one in places if command.stage == "migrations" and one.command.search(text)]
        if meant and not any(_has_files(tree, folder, one) for one in meant):
            command = replace(command, rank=0, lacks="migrations")
        yield command


def _has_files(tree: Tree, folder: str, place: MigratesFrom) -> bool:
    start = f"{folder}/" if folder else ""
    below = [path for path in tree.below(folder) if not is_side(path.rpartition("/")[0])]
    if any(place.files.search(f"/{path}") for path in below):
        return True
    for path in below:
        if place.configuration.search(path):
            try:
                if place.elsewhere.search(tree.text(start + path)):
                    return True
            except BadInput:
                continue  # not text: it names no place
    return False


def find_frameworks(tree: Tree, folder: str, language: str, names: frozenset[str]) -> list[FrameworkFound]:
    """Every framework recognised in a part; only the first that serves gives a server command."""
    results: list[FrameworkFound] = []
    for module in _modules(language):
        if any(one.serves for one in results) and getattr(module, "ALONE", False):
            continue
        one: FrameworkFound | None = module.recognise(tree, folder, names)
        if one is not None:
            results.append(one)
    return results
