"""A program beside the server that the page needs: what makes its files, or what its answer waits for."""

from __future__ import annotations

import re
import time

from plainfall.errors import PlainfallError
from plainfall.onboarding.second_processes import running_processes, start_second_process
from plainfall.onboarding.stages.first_page import is_good_now
from plainfall.onboarding.steps import Stage, Step
from plainfall.onboarding.work import Work
from plainfall.patterns import regex

__all__ = ["started_for_page"]

# What the command line of a program that makes a page's files says of itself.
_MAKES_FILES = regex(
    r"watch|tailwind|esbuild|webpack|rollup|vite|parcel|sass|postcss|less|assets?\b|css\b|bundle|build",
    re.IGNORECASE,
)
_SECONDS = 20.0  # for the first files, or the first answer


def started_for_page(work: Work, step: Step, error: PlainfallError) -> str:
    """Starts the programs of the process file, README or compose file that the page seems to lack, and returns
    that in words; "" if none is named, or they run already."""
    if step.stage is not Stage.PROBE or work.server is None:
        return ""
    lacks_files = "loads missing files" in error.cause
    waits = "no answer" in error.cause or "does not end" in error.cause
    running = running_processes(work.state)
    named = [
        one
        for one in work.part.processes
        if (work.part.key, one.name) not in running
        and (waits if not lacks_files else _MAKES_FILES.search(one.line) is not None)
    ]
    if not named:
        return ""
    for one in named:
        start_second_process(work, one)
    until = time.monotonic() + _SECONDS
    while time.monotonic() < until and not is_good_now(work):
        time.sleep(0.3)
    names = " and ".join(f"{one.name} ({one.evidence})" for one in named)
    what = "files of the page were missing" if lacks_files else "the page did not answer"
    return f"{what}: {names} was started beside the server"
