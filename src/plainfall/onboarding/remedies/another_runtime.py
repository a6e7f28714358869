"""A runtime, older or newer, whose standard library has the module, or the name in one, that the code imports."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from plainfall.failure_facts import LibraryLacks
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
    yield Change(
        f"the standard library of {had} has no {facts.named}: {{result}} was taken",
        replace(work.decisions, standard_modules=(*before, facts.named)),
        Stage.RUNTIME,
    )
