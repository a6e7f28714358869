"""A program that is no server: a window, a console game, a batch job, a worker. It is good if it runs to its end,
or stays up for a while."""

from __future__ import annotations

import re
import shlex
import shutil
import subprocess
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path

from msgspec.structs import replace

from plainfall.clone.commands import Command
from plainfall.diagnosis.reading import lines_that_matter
from plainfall.errors import CommandFailed
from plainfall.kept_records import ProgramRun
from plainfall.onboarding.part.steps import State, StepResult
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.stages.commands import check_command, end_leftovers
from plainfall.onboarding.stages.explaining import diagnose_for, mend_words
from plainfall.patterns import regex
from plainfall.processes import release
from plainfall.processes import start as start_process
from plainfall.reading import without_colours
from plainfall.server.control_group import make_group
from plainfall.server.logs import end_of_log
from plainfall.server.ports import listening_ports
from plainfall.server.process import belonging, new_mark, start, stop
from plainfall.writing import digest_of

__all__ = ["run_program"]

_STAYS = 5.0  # seconds after which a program that still runs counts as one that stays up
_WANTS_DISPLAY = regex(
    r"no display name|cannot open display|couldn't connect to display|cannot connect to X server|"
    r"no available video device|unable to open display|could not connect to any X display|qt\.qpa\.xcb",
    re.IGNORECASE,
)
_WANTS_TERMINAL = regex(
    r"setupterm|error opening terminal|terminals? database|must be run (in|from) a terminal|not a (tty|terminal)|"
    r"inappropriate ioctl|nocbreak|cbreak\(\) returned ERR|TERM environment variable not set",
    re.IGNORECASE,
)
_TERMINAL = {"TERM": "xterm-256color", "COLUMNS": "120", "LINES": "40"}
_STANDS_ON = ("runtime", "dependencies", "settings")
_SHOWN = 3  # lines of its output


def run_program(work: Work, command: Command) -> StepResult | None:
    """Runs the program and says what it did; None where it listens on a port, and so is a server. What still runs
    after some seconds is ended. One that wants a display gets a virtual one, if this machine has such a program.

    Kept if it was run before with the same runtime, dependencies and settings: what it does to its data is not
    known. Raises CommandFailed with the lines that matter where it ends with another status than 0."""
    fingerprint = digest_of(command.line, *(work.fingerprints.get(one) for one in _STANDS_ON))
    before = work.state.read(work.part.key, ProgramRun)
    if before.fingerprint == fingerprint:
        return StepResult(
            State.KEPT,
            before.title,
            "it was run before, and nothing that it depends on changed",
            (command.evidence,),
            (_again(command),),
        )
    if work.preview:
        return StepResult(State.TO_DO, f"run {command.line}", command.reason, (command.evidence,))
    result = _run(work, command)
    if result is not None:
        work.state.keep(work.part.key, ProgramRun(fingerprint=fingerprint, title=result.title))
    return result


def _run(work: Work, command: Command) -> StepResult | None:
    try:
        return _watched(work, command, {})
    except CommandFailed as error:
        failure = error
    text = "\n".join(failure.lines)
    if _WANTS_TERMINAL.search(text) and shutil.which("script"):
        line = f"script -qefc {shlex.quote(command.line)} /dev/null"  # of util-linux: a terminal of its own
        result = _watched(work, replace(command, line=line), _TERMINAL)
        return _with_remark(result, command, "it wants a terminal, and was given one of its own")
    if _WANTS_DISPLAY.search(text) and "DISPLAY" not in work.variables():
        if shutil.which("Xvfb") is None:
            failure.remedy = (
                "It opens a window: run it where a display is, or install Xvfb for a virtual one."
            )
            raise failure
        with _virtual_display(work.surroundings.for_project()) as display:
            result = _watched(work, command, {"DISPLAY": display})
        return _with_remark(result, command, "it opens a window, and was given a virtual display")
    raise failure


def _with_remark(result: StepResult | None, command: Command, remark: str) -> StepResult | None:
    if result is None:
        return None
    did = result.title.rpartition(": ")[2]
    return replace(
        result, title=f"{command.line}: {did}", remarks=(remark, *result.remarks[:-1], _again(command))
    )


def _again(command: Command) -> str:
    return f"run it again: plainfall inside -- {command.line}"


def _watched(work: Work, command: Command, more: dict[str, str]) -> StepResult | None:
    work.before_command()
    check_command(work, command.line, command.evidence)
    log = work.state.log(work.part.key, "server")
    mark = new_mark()
    group = make_group(mark)
    work.state.keep_command(mark, command.line, group)
    output = work.state.open_log(work.part.key, "server")
    begin = time.monotonic()
    running, process = start(
        command.line, work.folder, {**work.variables(), **more}, log, 0, mark, output, group
    )
    listens = False
    try:
        while process.poll() is None and time.monotonic() - begin < _STAYS:
            time.sleep(0.05)
            listens = bool(listening_ports(belonging(running)))
            if listens:
                break
        status = process.poll()
        stop(running, process, patience=2.0)
    except BaseException:
        end_leftovers(mark, group)
        process.wait()
        raise
    finally:
        release(process.pid)
    work.state.keep_command(mark, None)
    text = work.masked(end_of_log(Path(log)))
    if listens:
        return None
    if status not in (None, 0):
        known = diagnose_for(work, text, status)
        raise CommandFailed(
            f"the program ended with status {status}" + (f": {known.cause}" if known.cause else ""),
            remedy=known.remedy + mend_words(work, known) or "Read its lines above.",
            place=command.evidence,
            lines=lines_that_matter(text) or ("(no output)",),
            log=str(log),
            mend=known.mend,
            rule=known.rule,
            facts=known.facts,
        )
    shown = [line.strip() for line in without_colours(text).splitlines() if line.strip()][-_SHOWN:]
    did = "ran to its end" if status == 0 else f"stays up ({_STAYS:.0f} s), and was ended"
    return StepResult(
        State.DONE,
        f"{command.line}: {did}",
        f"{command.reason}; it is no server: it listens on no port",
        (command.evidence,),
        (*(f"its output: {line}" for line in shown), _again(command)),
    )


@contextmanager
def _virtual_display(variables: Mapping[str, str]) -> Iterator[str]:
    """A display that nobody sees, for as long as the block lasts; its name."""
    words = ["Xvfb", "-displayfd", "1", "-screen", "0", "1280x800x24", "-nolisten", "tcp"]
    process = start_process(
        words,
        variables,
        folder=Path("/"),
        stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
    )
    assert process.stdout is not None
    try:
        yield f":{process.stdout.readline().decode().strip()}"
    finally:
        process.terminate()
        process.wait()
        process.stdout.close()
        release(process.pid)
