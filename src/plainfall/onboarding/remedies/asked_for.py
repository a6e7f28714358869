"""What is tried only where the person asked for it with --mend: installing again, a new environment, migrations;
and another port where nobody wished for that one."""

from __future__ import annotations

from collections.abc import Iterator

from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Change, Deed, Failure

ORDER = 80
STAGES = frozenset(Stage)


def propose(work: Work, failure: Failure) -> Iterator[Change]:
    """What the failure's rule says would help."""
    error = failure.error
    if error.mend == "port" and failure.stage is Stage.SERVER:
        yield from _another_port(work, failure)
    if not work.choices.mends or error.mend in ("", "port"):
        return
    listed = work.part.dependencies
    before = f"mended: {error.cause}; "
    if error.mend == "dependencies" and listed is not None and listed.kind != "workspace":
        # Only where the list names what is missing: laying it again brings nothing else.
        words = f"{before}dependencies were installed again: {{result}}"
        yield Change(words, work.decisions, Stage.DEPENDENCIES, Deed("forget packages"))
    elif error.mend == "environment":
        yield Change(f"{before}{{result}}", work.decisions, Stage.ENVIRONMENT, Deed("remove environment"))
    elif error.mend == "migrations" and work.part.candidates("migrations"):
        words = f"{before}migrations were applied: {{result}}"
        yield Change(words, work.decisions, Stage.MIGRATIONS, Deed("forget migrations"))


def _another_port(work: Work, failure: Failure) -> Iterator[Change]:
    """A port that somebody took between the look and the start is nobody's wish: another one does."""
    taken = work.settled_by().ports.get(work.part.key)
    if (
        taken is None
        or taken in work.avoided
        or (work.choices.server.port is not None and not work.choices.mends)
    ):
        return
    words = f"mended: {failure.error.cause}; another port is used"
    yield Change(words, work.decisions, Stage.SERVER, Deed("avoid port", str(taken)))
