"""The languages: folders of this package, found by walking it. Adding one changes nothing else."""

from __future__ import annotations

import importlib
import pkgutil
from functools import cache

from plainfall.clone.vocabulary import Vocabulary
from plainfall.ecosystems.shape import Environment, Installing, Language, Recognising
from plainfall.sources.files import SourceReader

__all__ = [
    "environment_of",
    "installing_of",
    "language_named",
    "languages",
    "recognising_of",
    "source_readers",
    "title_of",
    "vocabulary",
]

_NO_LANGUAGES = ("shape", "shared")


@cache
def languages() -> tuple[Language, ...]:
    """All of them, in the order in which they go before each other in one folder."""
    names = [
        one.name for one in pkgutil.iter_modules(__path__) if one.ispkg and one.name not in _NO_LANGUAGES
    ]
    results = [importlib.import_module(f"{__name__}.{name}.language").LANGUAGE for name in names]
    return tuple(sorted(results, key=lambda one: (one.precedence, one.name)))


def language_named(name: str) -> Language | None:
    """The language of that name; None for the empty name of a part that only holds settings."""
    return next((one for one in languages() if one.name == name), None)


def title_of(name: str) -> str:
    """What people call a language, by its name."""
    language = language_named(name)
    return language.title if language is not None else name


def recognising_of(name: str) -> Recognising | None:
    """The recognising side of a language; None for an unknown language."""
    language = language_named(name)
    return language.recognising if language is not None else None


def environment_of(name: str) -> Environment:
    """What makes the environments of a language. Raises LookupError for one that is not onboarded."""
    language = language_named(name)
    if language is None or language.environment is None:
        raise LookupError(f"{name} has no environments")
    return language.environment


def installing_of(name: str) -> Installing:
    """What installs the packages of a language. Raises LookupError for one that is not onboarded."""
    language = language_named(name)
    if language is None or language.installing is None:
        raise LookupError(f"{name} has no installing")
    return language.installing


def source_readers() -> tuple[SourceReader, ...]:
    """The readers of all languages' sources."""
    return tuple(reader for one in languages() for reader in one.readers)


@cache
def vocabulary() -> Vocabulary:
    """The words of command lines that the languages own."""
    every = languages()
    return Vocabulary(
        programs={one.name: one.programs for one in every},
        clients={one.name: one.clients for one in every},
        runners=tuple(name for one in every for name in one.runners),
        endings=tuple(ending for one in every for ending in one.endings),
        makes_environment=tuple(one.makes_environment for one in every if one.makes_environment),
        aliases={name: program for one in every for name, program in one.program_aliases.items()},
    )
