"""What the language of the part proposes: versions held back, variables for its commands."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from plainfall.ecosystems.remedies import language_changes
from plainfall.ecosystems.shape.remedies import Trouble
from plainfall.failure_facts import NameMissing
from plainfall.kept_records import Installed
from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Change, Failure

ORDER = 58
STAGES = frozenset(set(Stage) - {Stage.RUNTIME, Stage.ENVIRONMENT, Stage.SETTINGS})


def propose(work: Work, failure: Failure) -> Iterator[Change]:
    """The changes of the language's own remedies. Versions are held back only where they are chosen here."""
    error, decisions = failure.error, work.decisions
    labels = work.state.read(work.part.key, Installed).names
    match error.facts:
        case NameMissing(module=module) if module:
            holder = work.installing.holder_of(work.folder, work.chosen(), work.access(), module)
        case _:
            holder = ""
    trouble = Trouble(
        error.rule,
        error.facts,
        error.lines,
        {name: version for name, _, version in (one.partition(" ") for one in labels)},
        {**work.choices.variables, **work.settings},
        work.chosen().taken.version,
        decisions.held_back,
        holder,
    )
    for change in language_changes(work.part.language, trouble):
        held = tuple(one for one in change.held_back if one not in decisions.held_back)
        if change.held_back and (not held or not work.installing.may_resolve(work.part)):
            continue
        before = {key: value for key, value in decisions.variables if key not in change.variables}
        stage = (
            Stage.DEPENDENCIES if held else Stage.SERVER if failure.stage is Stage.PROBE else failure.stage
        )
        yield Change(
            change.words,
            replace(
                decisions,
                held_back=(*decisions.held_back, *held),
                variables=(*before.items(), *change.variables.items()),
            ),
            stage,
        )
