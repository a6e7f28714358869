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
STAGES = frozenset({Stage.MIGRATIONS, Stage.SERVER})


def propose(work: Work, failure: Failure) -> Iterator[Change]:
    """The first folder that is missing of the files that the server or the migrations open, in the clone or in the
    folder for temporary files."""
    found = work.part.candidates("migrations") if failure.stage is Stage.MIGRATIONS else []
    command = found[0].line if found else failure.command
    if failure.error.rule != FailureKind.DATABASE_FILE or not command:
        return
    for path in reversed(databases_opened(work, command)):
        if path.parent.exists():
            continue
        words = f"the folder {path.parent} was missing, in which it opens {path.name}: it was made"
        if path.is_relative_to(work.state.confined.root):
            inner = os.path.relpath(path.parent, work.state.confined.root)
            yield Change(words, work.decisions, failure.stage, Deed("make folder", inner))
        else:
            yield Change(
                words, work.decisions, failure.stage, Deed("make temporary folder", str(path.parent))
            )
        return
