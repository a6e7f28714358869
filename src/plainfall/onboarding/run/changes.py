"""What a remedy proposes after a failure: other decisions, and from which stage the run goes on."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Protocol

from msgspec import Struct

from plainfall.clone.commands import Command
from plainfall.errors import PlainfallError
from plainfall.onboarding.part.decisions import Decisions
from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.part.work import Work
from plainfall.patterns import regex
from plainfall.settings.setting import Consent

__all__ = ["Advice", "Change", "Deed", "Failure", "Proposal", "Remedy"]

_NUMBERS = regex(r"0x[0-9a-f]+|\d+(\.\d+)?")


class Failure(Struct, frozen=True):
    """A step that failed: its stage, what it raised, and the start command that was tried ("" for other steps)."""

    stage: Stage
    error: PlainfallError
    command: str = ""

    @property
    def likeness(self) -> tuple[object, ...]:
        """Equal for failures of the same kind: the stage, and the rule with what it names; where no rule knows the
        output, the last line that matters without its numbers (times, processes, addresses)."""
        error = self.error
        if error.rule:
            return self.stage, error.rule, error.facts
        said = error.lines[-1] if error.lines else error.cause
        return self.stage, type(error).__name__, _NUMBERS.sub("#", said)


class Deed(Struct, frozen=True):
    """What has to be done before the run goes on, once; ``kind`` is one of those that ``run/deeds.py`` knows.

    ``name`` is what it is about: a folder or a file to make, a second process to start; ``source`` what a file
    is made of; ``command`` a command of the project's to run.
    """

    kind: str
    name: str = ""
    source: str = ""
    command: Command | None = None


class Change(Struct, frozen=True):
    """Other decisions that may help. ``words`` say what was done, once it was (``{result}`` in them is what came of
    the stage that it touches first); ``stage`` is that one. ``aside`` marks another way rather than a step forward:
    where it leads nowhere, what was tried first counts. A ``question`` is put to the person before."""

    words: str
    decisions: Decisions
    stage: Stage
    deed: Deed | None = None
    aside: bool = False
    question: Consent | None = None

    @property
    def key(self) -> tuple[object, ...]:
        """What tells that it was tried already."""
        deed = self.deed
        return self.decisions, deed and (deed.kind, deed.name, deed.command and deed.command.line)


class Advice(Struct, frozen=True):
    """A better remedy for the person, where only they can carry it out."""

    remedy: str


Proposal = Change | Advice


class Remedy(Protocol):
    """A module of ``remedies/``: ``ORDER`` says when it is asked (the lowest first), ``STAGES`` after failures of
    which stages."""

    ORDER: int
    STAGES: frozenset[Stage]

    def propose(self, work: Work, failure: Failure) -> Iterable[Proposal]:
        """The changes that may help, the likeliest first. It reads, and changes nothing."""
