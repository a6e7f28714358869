"""A folder of the clone in which the program writes (its log, its data), and that nobody made yet."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

from plainfall.failure_facts import FileUnusable
from plainfall.failure_kinds import FailureKind
from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Change, Deed, Failure
from plainfall.patterns import regex

ORDER = 10
STAGES = frozenset({Stage.MIGRATIONS, Stage.SEEDS, Stage.TASKS, Stage.SERVER, Stage.PROBE})

# What a program makes by itself, if only its folder is there.
_WRITTEN = regex(
    r"\.(log|db|sqlite3?|pid|lock|cache)$|(^|/)(logs?|data|var|tmp|cache|instance|uploads|media)/[^/]+$"
)


def propose(work: Work, failure: Failure) -> Iterator[Change]:
    """The folder of the file that could not be opened, if that is one that is written."""
    error, facts = failure.error, failure.error.facts
    if error.rule not in (FailureKind.FILE_MISSING, FailureKind.DATABASE_FILE):
        return
    if not isinstance(facts, FileUnusable) or not facts.path:
        return
    place = Path(os.path.normpath(work.folder / facts.path)).parent
    inner = os.path.relpath(place, work.clone)
    written = _WRITTEN.search(facts.path) is not None
    # Of folders with a dot before their names (a repository's, ours) none is any program's to fill.
    if not written or inner.startswith(".") or "/." in inner or place.exists():
        return
    words = f"the folder {inner} was missing, in which {Path(facts.path).name} is written: it was made"
    stage = Stage.SERVER if failure.stage is Stage.PROBE else failure.stage
    yield Change(words, work.decisions, stage, Deed("make folder", inner))
