"""What a language proposes after a failure: a module in its folder ``remedies``, found by walking."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Protocol

from msgspec import Struct

from plainfall.failure_facts import Facts
from plainfall.failure_kinds import FailureKind

__all__ = ["LanguageChange", "LanguageRemedy", "Trouble"]


class Trouble(Struct, frozen=True):
    """A failure as a language sees it: its kind and facts, the lines of output that matter, the packages that are
    installed (name → version), the variables of the part's commands, the version of its runtime, and the wishes by
    which versions are held back already; ``holder`` is the installed package whose files hold the module that the
    failure is about, "" where none does."""

    kind: FailureKind
    facts: Facts
    lines: tuple[str, ...]
    installed: Mapping[str, str]
    variables: Mapping[str, str]
    runtime: str
    held_back: tuple[str, ...] = ()
    holder: str = ""


class LanguageChange(Struct, frozen=True):
    """What may help: wishes by which versions of packages are held back ("gaugekit<3"), and variables for the
    part's commands. ``words`` say what was done, once it was; ``{result}`` in them is what came of it."""

    words: str
    held_back: tuple[str, ...] = ()
    variables: Mapping[str, str] = {}


class LanguageRemedy(Protocol):
    """A module of a language's ``remedies``: the kinds of failure that it is for, and what it proposes."""

    KINDS: frozenset[FailureKind]

    def propose(self, trouble: Trouble) -> Iterable[LanguageChange]:
        """The changes that may help, the likeliest first. It reads, and changes nothing."""
