"""A runtime, older or newer, whose standard library has the module, or the name in one, that the code imports."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from plainfall.failure_facts import LibraryLacks
from plainfall.failure_kinds import FailureKind
from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Change, Failure

ORDER = 43
STAGES = frozenset({Stage.MIGRATIONS, Stage.SEEDS, Stage.TASKS, Stage.SERVER, Stage.PROBE})


def propose(work: Work, failure: Failure) -> Iterator[Change]:
    """One that fits is asked for by the module's name; where the person named the runtime, that one stays."""
    facts, recognising = failure.error.facts, work.language.recognising
    if not isinstance(facts, LibraryLacks) or recognising is None or work.choices.runtime.file is not None:
        return
    before = work.decisions.standard_modules
    if facts.named in before or not recognising.asks_for_module(facts.named):
        return
    had = f"{work.language.title} {work.chosen().taken.version}"
    is_type = failure.error.rule is FailureKind.TYPE_OF_ANOTHER_RUNTIME
    lacks = (
        f"{had} is too old for the code ({facts.named})"
        if is_type
        else f"the standard library of {had} has no {facts.named}"
    )
    yield Change(
        f"{lacks}: {{result}} was taken",
        replace(work.decisions, standard_modules=(*before, facts.named)),
        Stage.RUNTIME,
    )
