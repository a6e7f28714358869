"""A command of the project's, run once more where a second time may help, and tolerated where the team says so."""

from __future__ import annotations

import math
import re

from plainfall.clone.commands import Command
from plainfall.errors import CommandFailed
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.stages.commands import run_command
from plainfall.patterns import regex
from plainfall.server.process import new_mark
from plainfall.settings.answers import TEAM_FILE, are_tolerated

__all__ = ["carry_out"]

_NETWORK = regex(r"ETIMEDOUT|ECONNRESET|EAI_AGAIN|socket hang up|timed? ?out|Temporary failure in name")
_SAID_FLAKY = regex(r"flaky|run it again|try again|once more|second (try|time|attempt)|retry", re.IGNORECASE)
_TELLING = regex(r"error|fail|cannot|denied|refused|not found|missing|fatal|exception", re.IGNORECASE)


def carry_out(
    work: Work, stage: str, command: Command, answers: bytes = b"", seconds: float = math.inf
) -> list[str]:
    """Runs a command with these answers as its input, for at most so many seconds; one that is known to be flaky,
    or whose network failed, is run once more, and errors that the team declared harmless are tolerated. Returns
    remarks for people. Raises CommandFailed."""
    remarks: list[str] = []
    for attempt in (1, 2):
        try:
            mark, line, evidence = new_mark(), command.line, command.evidence
            return [*remarks, *run_command(work, stage, line, mark, evidence, answers, seconds)]
        except CommandFailed as error:
            telling = [line for line in error.lines if _TELLING.search(line)] or list(error.lines)
            if telling and are_tolerated(work.tree, telling):
                shown = "; ".join(telling[:3])
                return [*remarks, f"tolerated, as {TEAM_FILE} says: {command.line} failed ({shown})"]
            why = _flaky(work, command, error.lines) if attempt == 1 else None
            if why is None:
                raise
            remarks.append(f"{command.line} failed and was run once more, since {why}")
    return remarks


def _flaky(work: Work, command: Command, lines: tuple[str, ...]) -> str | None:
    """Why a second try makes sense, or None."""
    if any(_NETWORK.search(line) for line in lines):
        return "the network failed it"
    place = f"{work.part.path}/" if work.part.path else ""
    for name in work.tree.folders.get(work.part.path, ()):
        if not name.lower().startswith("readme"):
            continue
        rows = work.tree.text(place + name).splitlines()
        for number, row in enumerate(rows):
            similar = " ".join(rows[max(0, number - 3) : number + 4])
            if command.line in row and _SAID_FLAKY.search(similar):
                return f"{place}{name}:{number + 1} says that it may have to be"
    return None
