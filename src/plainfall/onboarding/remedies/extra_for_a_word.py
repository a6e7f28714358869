"""An extra that may bring a documented command of the project's own program, where the program does not know it."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Change, Failure
from plainfall.patterns import regex

ORDER = 42
STAGES = frozenset({Stage.MIGRATIONS, Stage.SEEDS, Stage.TASKS, Stage.SERVER, Stage.PROBE})

_UNKNOWN_WORD = regex(r"[Nn]o such command '([\w-]+)'|invalid choice: '([\w-]+)'")
_SERVING_EXTRAS = tuple("server serve web webapp app http api ui gui cli".split())  # the likeliest first


def propose(work: Work, failure: Failure) -> Iterator[Change]:
    """The extras of the list whose names speak of serving, one after the other."""
    unknown = next((match for line in failure.error.lines if (match := _UNKNOWN_WORD.search(line))), None)
    listed = work.part.dependencies
    if unknown is None or listed is None:
        return
    word = unknown.group(1) or unknown.group(2)
    known = work.choices.packages.extras
    for extra in _SERVING_EXTRAS:
        if extra in listed.offered[0] and extra not in known:
            yield Change(
                f"its program does not know {word!r} yet: the extra {extra} was installed, too: {{result}}",
                replace(work.decisions, extras=(*work.decisions.extras, extra)),
                Stage.DEPENDENCIES,
            )
