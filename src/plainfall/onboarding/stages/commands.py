"""Running one of the project's own commands to its end."""

from __future__ import annotations

import contextlib
import math
import os
import re
import select
import shlex
import shutil
import signal
import subprocess
import time
from collections import deque
from collections.abc import Iterator
from pathlib import Path

from plainfall.diagnosis.reading import lines_that_matter, own_words
from plainfall.errors import CommandFailed
from plainfall.evidence import Evidence
from plainfall.failure_facts import CommandMissing
from plainfall.failure_kinds import FailureKind
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.stages.explaining import diagnose_for, mend_words
from plainfall.patterns import regex
from plainfall.processes import release, start
from plainfall.server.control_group import enter_words, kill_group, make_group, remove_group
from plainfall.server.ports import listening_ports
from plainfall.server.process import MARK, Running, adopt_orphans, marked, orphans, stop
from plainfall.settings.setting import Consent, agrees

__all__ = [
    "ENTERS",
    "USAGE",
    "StepServes",
    "check_command",
    "end_leftovers",
    "may_be_empty",
    "may_press_enter",
    "run_command",
]

ENTERS = b"\n" * 40  # the input of a program whose questions all may be left empty
_MOST_LINES, _LONGEST_LINE = 20_000, 64 * 1024  # of a command's output that are looked at; bytes
_SERVES = 10.0  # seconds for which a command listens and says nothing, when it is no step but a server
_LINGER = 1.0  # seconds that the output of a command may stay open after its end
# What a program says that wants to be told what to do.
USAGE = regex(r"\busage\b|arguments? (is|are) required|missing (argument|command|option)", re.IGNORECASE)
_TAKES_AWAY = regex(
    r"delet|drop|remov|eras|overwrit|wip(e|ing)|reset|destroy|purg|replac|flush|clear|lose|lost",
    re.IGNORECASE,
)
_BY_ENTER = regex(r"\bleave (this|it|the field)? ?(empty|blank)\b|\bdefault\b", re.IGNORECASE)


def check_command(work: Work, command: str, evidence: Evidence) -> None:
    """Raises CommandFailed where a command would be run by another environment's program: a package's command
    that is found outside of the part's environment."""
    words = command.split()
    name = next((word for word in words if "=" not in word), "") if work.onboarded else ""
    path = shutil.which(name, path=work.variables()["PATH"]) if name and "/" not in name else None
    if path is None or Path(path).is_relative_to(work.clone):
        return
    runtime = work.language.programs[0]
    if name in work.language.clients or re.fullmatch(rf"{runtime}[\d.]*", name):
        return
    if name in work.language.programs or _is_script_of(path, runtime):
        raise CommandFailed(
            f"{name} is not installed in the part's environment; {path} belongs to another one",
            place=evidence,
            rule=FailureKind.PROGRAM_MISSING,
            facts=CommandMissing(command=name),
            another_may_do=True,
            remedy=f"Add the package that brings {name} to the dependency list, then run the same command again."
            + _hint_at_imports(work),
        )


def may_be_empty(question: str) -> bool:
    """Whether a question of a program says that no answer will do, or names what it takes then; never where it is
    about taking something away.

    >>> [may_be_empty(text) for text in ("Which list (default: all)?", "Overwrite it (default: yes)?", "Who?")]
    [True, False, False]
    """
    return _BY_ENTER.search(question) is not None and _TAKES_AWAY.search(question) is None


def may_press_enter(work: Work, question: str) -> bool:
    """Whether a program may get Enter where it asks for what has a default: where somebody can be asked, the person
    says it; a run that asks nobody takes the default that the program itself names."""
    if not may_be_empty(question):
        return False
    shown = question.strip()[:100]
    why = "It takes the default that it names then. Without an answer it ends."
    consent = Consent(f"The program asks: {shown} May it get Enter?", why)
    return work.ask is None or agrees(work.ask, consent)


def _hint_at_imports(work: Work) -> str:
    listed = work.part.dependencies
    if listed is None or not listed.unlisted:
        return ""
    names = ", ".join(one.text for one in listed.unlisted)
    return f" --from-imports installs what the sources import and no list names: {names}."


def _is_script_of(path: str, runtime: str) -> bool:
    try:
        with open(path, "rb") as file:
            first = file.readline(300)
    except OSError:
        return False  # it cannot be read, and is no script
    return first.startswith(b"#!") and re.search(rf"\b{runtime}[\d.]*\s*$".encode(), first) is not None


class StepServes(CommandFailed):
    """A command that was taken for a step of the set-up, and is a server: it listens on a port, and does not
    end."""


class _Serves(Exception):
    """It listens on a port, and nothing more comes of it."""


class _TooLong(Exception):
    """It did not end within the time that it was given."""


def run_command(
    work: Work,
    stage: str,
    command: str,
    mark: str,
    evidence: Evidence,
    answers: bytes = b"",
    seconds: float = math.inf,
) -> list[str]:
    """Runs the command line in the part's folder and environment, with ``answers`` as its input,
    output (secrets covered) into the stage's log; returns remarks for people: processes that outlived it are ended,
    since nothing that a step leaves behind would ever be ended by anyone.

    Raises CommandFailed with the lines that matter if it does not end with status 0 or within ``seconds``,
    StepServes for one that turns out to be a server; both are ended. If this process is interrupted meanwhile, the
    command and all that it started is ended before the exception goes on."""
    log = work.state.log(work.part.key, stage)
    adopt_orphans()
    work.before_command()
    check_command(work, command, evidence)
    # On disk before the start, so that `stop` ends what is left of it after a kill.
    group = make_group(mark)
    work.state.keep_command(mark, command, group)
    handle = work.state.open_log(work.part.key, stage)
    process = start(
        enter_words(group, command),
        {**work.variables(), MARK: mark},
        folder=work.folder,
        stdin=subprocess.PIPE if answers else subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
    )
    pieces: deque[str] = deque(maxlen=_MOST_LINES)  # the log has all
    why: CommandFailed | None = None
    try:
        if process.stdin is not None:
            with contextlib.suppress(BrokenPipeError), process.stdin:  # one that has ended takes none
                process.stdin.write(answers)
        _into_log(work, handle, _lines(process, mark, group, seconds), pieces)
        status = process.wait()
        left = _left_running(process, mark, group, command, str(log))
    except BaseException as error:
        end_leftovers(mark, group)
        process.wait()
        why = _ended(error, command, evidence, "".join(pieces), seconds, str(log))
        if why is None:
            raise
        status, left = 0, []
    finally:
        assert process.stdout is not None
        process.stdout.close()
        release(process.pid)
    work.state.keep_command(mark, None)
    if why is not None:
        raise why
    if status != 0:
        raise _failure(work, command, evidence, "".join(pieces), status, str(log))
    return left


def _into_log(work: Work, handle: int, lines: Iterator[bytes], pieces: deque[str]) -> None:
    """Writes the output into the log, secrets covered, and keeps its last lines in ``pieces``."""
    with open(handle, "w", encoding="utf-8") as file:
        for number, raw in enumerate(lines, 1):
            line = work.masked(raw.decode("utf-8", "replace"))
            pieces.append(line)
            file.write(line)
            file.flush()
            work.progress(number, 0, line.strip()[:80])


def _ended(
    error: BaseException, command: str, evidence: Evidence, output: str, seconds: float, log: str
) -> CommandFailed | None:
    """The failure of a command that was ended, None for another reason than its own."""
    if isinstance(error, _TooLong):
        return _too_long(command, evidence, output, seconds, log)
    if not isinstance(error, _Serves):
        return None
    return StepServes(
        f"`{command}` is no step: it listens on a port, and serves",
        remedy=f"Start it as the server, if it is the one: plainfall serve --command {shlex.quote(command)}",
        place=evidence,
        lines=lines_that_matter(output),
        log=log,
    )


def _too_long(command: str, evidence: Evidence, output: str, seconds: float, log: str) -> CommandFailed:
    return CommandFailed(
        f"`{command}` did not end within {seconds:.0f} s, and was ended",
        remedy=f"If it is needed, run it yourself: plainfall inside -- {command}",
        place=evidence,
        lines=lines_that_matter(output),
        log=log,
    )


def _failure(
    work: Work, command: str, evidence: Evidence, output: str, status: int, log: str
) -> CommandFailed:
    known = diagnose_for(work, output, status)
    return CommandFailed(
        f"`{command}` ended with {_status(status)}"
        + (f": {why}" if (why := known.cause or own_words(lines_that_matter(output))) else ""),
        remedy=known.remedy + mend_words(work, known)
        or "Read the lines above; the whole output is in the log.",
        place=evidence,
        lines=lines_that_matter(output) or ("(no output)",),
        log=log,
        mend=known.mend,
        rule=known.rule,
        facts=known.facts,
    )


def _lines(process: subprocess.Popen[bytes], mark: str, group: str, seconds: float) -> Iterator[bytes]:
    """The output, line by line, to its end; where the command has ended and something that it started keeps
    the output open, for a moment more. Raises _Serves where it listens on a port and says nothing for a while,
    _TooLong where it does not end within ``seconds``."""
    assert process.stdout is not None
    source, unfinished, ended = process.stdout.fileno(), b"", 0.0
    begin = heard = time.monotonic()
    listens = False
    ready = select.poll()
    ready.register(source)
    while not ended or time.monotonic() - ended < _LINGER:
        if not ended and process.poll() is not None:
            ended = time.monotonic()
        if not ended and time.monotonic() - begin > seconds:
            raise _TooLong
        if ready.poll(100):
            piece = os.read(source, 65536)
            if not piece:
                break
            heard, listens = time.monotonic(), False
            *lines, unfinished = (unfinished + piece).split(b"\n")
            yield from (line + b"\n" for line in lines)
            if len(unfinished) > _LONGEST_LINE:  # one that never ends a line is not kept waiting for that
                yield unfinished
                unfinished = b""
        elif not ended and time.monotonic() - heard > (_SERVES if listens else _SERVES / 2):
            if not listening_ports(marked(mark, group)):
                heard = time.monotonic()
            elif listens:
                raise _Serves
            listens = True
    if unfinished:
        yield unfinished


def _left_running(
    process: subprocess.Popen[bytes], mark: str, group: str, command: str, log: str
) -> list[str]:
    """Ends what outlived the command; returns remarks for people."""
    pids = sorted({*marked(mark, group), *orphans()})
    if not pids:
        remove_group(group)
        return []
    import psutil

    names = set()
    for pid in pids:
        with contextlib.suppress(psutil.Error):  # it ended meanwhile
            names.add(psutil.Process(pid).name())
    others = tuple(pair for pid in pids if (pair := _identity(pid)) is not None)
    running = Running(process.pid, time.time(), mark, command, log, 0, others, group)
    stop(running, process, patience=2.0)
    many = "1 process" if len(pids) == 1 else f"{len(pids)} processes"
    named = f" ({', '.join(sorted(names))})" if names else ""
    return [f"terminated {many} left running by `{command}`{named}"]


def _identity(pid: int) -> tuple[int, float] | None:
    import psutil

    try:
        return pid, psutil.Process(pid).create_time()
    except psutil.Error:
        return None  # it ended meanwhile


def end_leftovers(mark: str, group: str = "") -> list[int]:
    """Ends every process that bears the mark or is in the control group, without asking; returns their ids."""
    pids = marked(mark, group)
    kill_group(group)
    for pid in pids:
        try:
            os.kill(pid, signal.SIGKILL)
        except ProcessLookupError:
            continue  # it ended by itself meanwhile
    remove_group(group)
    return pids


def _status(status: int) -> str:
    if status < 0:
        return f"signal {signal.Signals(-status).name}"
    return f"status {status}"
