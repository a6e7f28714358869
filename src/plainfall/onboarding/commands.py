"""Running one of the project's own commands to its end."""

from __future__ import annotations

import os
import signal
import subprocess

from plainfall.diagnosis.reading import lines_that_matter
from plainfall.errors import CommandFailed
from plainfall.evidence import Evidence
from plainfall.onboarding.explaining import diagnose_for, mend_words
from plainfall.onboarding.work import Work
from plainfall.server.process import MARK, marked

__all__ = ["end_leftovers", "run_command"]


def run_command(work: Work, stage: str, command: str, mark: str, evidence: Evidence) -> str:
    """Runs the command line in the part's folder and environment, output (secrets covered) into the
    stage's log; returns the output.

    Raises CommandFailed with the lines that matter if it does not end with status 0. If this process is
    interrupted meanwhile, the command and all that it started is ended before the exception goes on.
    """
    log = work.state.log(work.part.key, stage)
    log.parent.mkdir(parents=True, exist_ok=True)
    process = subprocess.Popen(
        ["/bin/sh", "-c", command],
        cwd=work.folder,
        env={**work.variables(), MARK: mark},
        stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        start_new_session=True,
    )
    pieces = []
    handle = os.open(log, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    try:
        with open(handle, "w", encoding="utf-8") as file:
            assert process.stdout is not None
            for number, raw in enumerate(process.stdout, 1):
                line = work.masked(raw.decode("utf-8", "replace"))
                pieces.append(line)
                file.write(line)
                file.flush()
                work.progress(number, 0, line.strip()[:80])
        status = process.wait()
    except BaseException:
        end_leftovers(mark)
        process.wait()
        raise
    output = "".join(pieces)
    if status != 0:
        known = diagnose_for(work, output, status)
        raise CommandFailed(
            f"`{command}` ended with {_status(status)}" + (f": {known.cause}" if known.cause else ""),
            remedy=known.remedy + mend_words(known)
            or "Read the lines above; the whole output is in the log.",
            place=evidence,
            lines=lines_that_matter(output) or ("it said nothing",),
            log=str(log),
            mend=known.mend,
        )
    return output


def end_leftovers(mark: str) -> None:
    """Ends every process that bears the mark, without asking."""
    for pid in marked(mark):
        try:
            os.kill(pid, signal.SIGKILL)
        except ProcessLookupError:
            continue  # it ended by itself meanwhile


def _status(status: int) -> str:
    if status < 0:
        return f"signal {signal.Signals(-status).name}"
    return f"status {status}"
