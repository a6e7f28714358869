"""The build of the project's own, where what it makes is missing: files that a page loads, or that the server
starts with."""

from __future__ import annotations

from collections.abc import Iterator

from plainfall.clone.commands import Command
from plainfall.ecosystems import languages
from plainfall.failure_kinds import FailureKind
from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Change, Deed, Failure
from plainfall.server.faults import MISSING_FILES

ORDER = 47
STAGES = frozenset({Stage.MIGRATIONS, Stage.SEEDS, Stage.TASKS, Stage.SERVER, Stage.PROBE})


def propose(work: Work, failure: Failure) -> Iterator[Change]:
    """The build that the part's manifests name, once; the server starts again behind it."""
    error = failure.error
    if error.rule is not FailureKind.BUILD_OUTPUT_MISSING and error.fault != MISSING_FILES:
        return
    build = _build(work)
    if build is None:
        return
    what = "files of the page" if failure.stage is Stage.PROBE else error.facts.named or "what a build makes"
    stage = Stage.SERVER if failure.stage is Stage.PROBE else failure.stage
    words = f"{what} were missing: {build.line} was run ({build.evidence})"
    yield Change(words, work.decisions, stage, Deed("run build", command=build))


def _build(work: Work) -> Command | None:
    """The build command among the part's tasks, else the one that a manifest in its folder has."""
    listed = next((one for one in work.part.candidates("tasks") if "build" in one.line), None)
    if listed is not None:
        return listed
    for language in languages():
        if language.recognising is not None:
            found = language.recognising.build_command(work.tree, work.part.path)
            if found is not None:
                return found
    return None
