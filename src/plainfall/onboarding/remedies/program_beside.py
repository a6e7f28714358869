"""A program beside the server that the page needs: what makes its files, or what its answer waits for."""

from __future__ import annotations

import re
from collections.abc import Iterator

from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Change, Deed, Failure
from plainfall.onboarding.stages.second_processes import running_processes
from plainfall.patterns import regex
from plainfall.server.faults import ENDLESS, MISSING_FILES, NO_ANSWER, PARTLY

ORDER = 22
STAGES = frozenset({Stage.PROBE})

# What the command line of a program that makes a page's files says of itself.
_MAKES_FILES = regex(
    r"watch|tailwind|esbuild|webpack|rollup|vite|parcel|sass|postcss|less|assets?\b|css\b|bundle|build",
    re.IGNORECASE,
)


def propose(work: Work, failure: Failure) -> Iterator[Change]:
    """The programs of the process file, README or compose file that the page seems to lack, all at once."""
    fault = failure.error.fault
    if work.server is None or fault not in (MISSING_FILES, PARTLY, NO_ANSWER, ENDLESS):
        return
    running = running_processes(work.state)
    named = [
        one
        for one in work.part.processes
        if (work.part.key, one.name) not in running
        and (fault not in (MISSING_FILES, PARTLY) or _MAKES_FILES.search(one.line) is not None)
    ]
    if named:
        names = " and ".join(f"{one.name} ({one.evidence})" for one in named)
        what = (
            "files of the page were missing"
            if fault in (MISSING_FILES, PARTLY)
            else "the page did not answer"
        )
        deed = Deed("start beside", " ".join(one.name for one in named))
        yield Change(f"{what}: {names} was started beside the server", work.decisions, Stage.PROBE, deed)
