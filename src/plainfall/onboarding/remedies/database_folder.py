"""The folder of a database file, where a program wants it to be there and does not say which."""

from __future__ import annotations

import os
from collections.abc import Iterator

from plainfall.failure_kinds import FailureKind
from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Change, Deed, Failure
from plainfall.onboarding.stages.database_notes import databases_opened

ORDER = 11
STAGES = frozenset({Stage.SERVER})


def propose(work: Work, failure: Failure) -> Iterator[Change]:
    """The first folder that is missing of the files that the server opens, in the clone or in the folder for
    temporary files."""
    if failure.error.rule != FailureKind.DATABASE_FILE or not failure.command:
        return
    for path in reversed(databases_opened(work, failure.command)):
        if path.parent.exists():
            continue
        words = f"the folder {path.parent} was missing, in which it opens {path.name}: it was made"
        if path.is_relative_to(work.state.confined.root):
            inner = os.path.relpath(path.parent, work.state.confined.root)
            yield Change(words, work.decisions, Stage.SERVER, Deed("make folder", inner))
        else:
            yield Change(words, work.decisions, Stage.SERVER, Deed("make temporary folder", str(path.parent)))
        return
