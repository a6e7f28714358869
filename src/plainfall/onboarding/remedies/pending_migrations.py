"""The migrations of a program of the project's own that runs its framework's commands (``gauges runserver``), where
it says that some are pending."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from plainfall.failure_kinds import FailureKind
from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Change, Deed, Failure
from plainfall.onboarding.stages.filling_data import rows_at_stake
from plainfall.patterns import regex

ORDER = 45
STAGES = frozenset({Stage.SERVER, Stage.PROBE})

_RUNS_SERVER = regex(r"((?:python -m )?[\w.-]+) runserver\b")


def propose(work: Work, failure: Failure) -> Iterator[Change]:
    """Its command ``migrate``, where no database holds rows."""
    started = (work.server.command if work.server is not None else "") or failure.command
    match = _RUNS_SERVER.match(started)
    if (
        failure.error.rule != FailureKind.MIGRATION_PENDING
        or match is None
        or work.part.candidates("migrations")
    ):
        return
    if rows_at_stake(work):
        return
    line = f"{match.group(1)} migrate --noinput"
    base = work.part.candidates("server")[0]
    command = replace(base, stage="migrations", line=line, script="")
    words = f"migrations were pending: `{line}` was run"
    yield Change(words, work.decisions, Stage.SERVER, Deed("run migrations", command=command))
