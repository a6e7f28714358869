"""A first step of the project's own (``gauges init``, ``gauges db upgrade``), where its server ends at once or
a page lacks the tables that nothing made."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice

from plainfall.failure_kinds import FailureKind
from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Change, Deed, Failure
from plainfall.onboarding.stages.first_steps import first_steps

ORDER = 46
STAGES = frozenset({Stage.SERVER, Stage.PROBE})

_MOST = 2  # that are tried after one failure


def propose(work: Work, failure: Failure) -> Iterator[Change]:
    """A second start where the first one wrote a file; else what output, documents and help name, in this order."""
    error = failure.error
    if failure.stage is Stage.PROBE:
        if error.rule != FailureKind.TABLE_MISSING or work.part.candidates("migrations"):
            return
    elif not failure.command:
        return
    else:
        written = error.files_written
        if written:
            words = f"its first start wrote {', '.join(written[:3])} and ended"
            yield Change(words, work.decisions, Stage.SERVER, Deed("start again", " ".join(written)))
    base = work.part.candidates("server")[0]
    for command in islice(first_steps(work, base, failure.command, error.lines, error.log), _MOST):
        words = f"`{command.line}` was run once before ({command.reason}){{done}}"
        yield Change(words, work.decisions, Stage.SERVER, Deed("run first step", command=command))
