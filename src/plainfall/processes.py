"""Child processes: each gets the variables that it is given and nothing of the developer's own, and none
outlives an interrupted run by accident.

Everything that Plainfall runs is started here (a test holds that): interpreters that are asked for facts,
git, compilers, builds, the project's commands. A dev server is started here, too, and then released.
"""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import threading
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import IO, Any

from msgspec import Struct

from plainfall.memory import give_back
from plainfall.tracing import trace

__all__ = ["Finished", "end_all", "postpone_interrupt", "release", "run", "running", "start", "started"]

_RUNNING: set[int] = set()  # ids of the sessions that are under way
_KEPT: set[int] = set()  # those that were released, and are nobody's leftovers
_LOCK = threading.Lock()


class Finished(Struct, frozen=True):
    """A process that has ended: its status (negative: the signal) and what it wrote, in UTF-8 with what is
    not that replaced."""

    status: int
    output: str
    errors: str


def run(
    words: Sequence[str],
    variables: Mapping[str, str],
    *,
    folder: Path | str = "/",
    seconds: float | None = None,
    output: IO[bytes] | None = None,
    data: bytes | None = None,
    **options: Any,
) -> Finished:
    """Runs a command to its end, without input unless ``data`` is given; with ``output`` all that it writes
    goes there instead; ``options`` are further ones of subprocess.Popen.

    Raises OSError if it cannot be started, subprocess.TimeoutExpired after ``seconds``. Whatever ends the
    wait, an interrupt included, ends the command with all of its session.
    """
    with started(
        words,
        variables,
        folder=folder,
        stdin=subprocess.DEVNULL if data is None else subprocess.PIPE,
        stdout=output or subprocess.PIPE,
        stderr=subprocess.STDOUT if output else subprocess.PIPE,
        **options,
    ) as process:
        text, errors = process.communicate(data, seconds)
    return Finished(
        process.returncode,
        (text or b"").decode("utf-8", "replace"),
        (errors or b"").decode("utf-8", "replace"),
    )


@contextmanager
def started(
    words: Sequence[str], variables: Mapping[str, str], *, folder: Path | str, **options: Any
) -> Iterator[subprocess.Popen[bytes]]:
    """A process in a session of its own, which is killed with all that is left of it when the block is left.
    ``options`` are those of subprocess.Popen. Raises OSError if it cannot be started."""
    process = start(words, variables, folder=folder, **options)
    try:
        yield process
    finally:
        _kill(process.pid)  # it, if it still runs, and what it left running in its session
        process.wait()
        trace.debug("process %d ended with %s", process.pid, process.returncode)
        for stream in (process.stdin, process.stdout, process.stderr):
            if stream is not None:
                with contextlib.suppress(OSError):  # what it did not take any more
                    stream.close()
        release(process.pid)


def start(
    words: Sequence[str], variables: Mapping[str, str], *, folder: Path | str, **options: Any
) -> subprocess.Popen[bytes]:
    """Starts a process in a session of its own; ``end_all`` ends it until it is released."""
    with _noted_before_an_interrupt(), _LOCK:
        process: subprocess.Popen[bytes] = subprocess.Popen(
            list(words), cwd=folder, env=dict(variables), start_new_session=True, **options
        )
        _RUNNING.add(process.pid)
        give_back(process.pid)
    trace.debug("started process %d in %s: %s", process.pid, folder, " ".join(words))
    return process


class _Starting:
    """Whether the main thread is starting a process right now, and whether it was interrupted meanwhile."""

    depth = 0
    interrupted = False


def postpone_interrupt() -> bool:
    """For a signal's handler: True if the interrupt comes by itself as soon as the process that is being started is
    noted; one that was started and is not noted could not be ended any more."""
    if _Starting.depth:
        _Starting.interrupted = True
    return _Starting.depth > 0


@contextmanager
def _noted_before_an_interrupt() -> Iterator[None]:
    if threading.current_thread() is not threading.main_thread():
        yield  # signals interrupt the main thread alone
        return
    _Starting.depth += 1
    try:
        yield
    finally:
        _Starting.depth -= 1
    if _Starting.interrupted:
        _Starting.interrupted = False
        raise KeyboardInterrupt


def release(pid: int, *, kept: bool = False) -> None:
    """Lets a process that was started here outlive this one; with ``kept`` it still counts as one that was started
    here, so that no command's end takes it for what that command left behind."""
    with _LOCK:
        _RUNNING.discard(pid)
        if kept:
            _KEPT.add(pid)


def running() -> set[int]:
    """Ids of what was started here and not released, or released and kept."""
    with _LOCK:
        return _RUNNING | _KEPT


def end_all() -> None:
    """Kills the session of everything that is under way; for the last moment before this process exits."""
    for pid in list(_RUNNING):
        _kill(pid)


def _kill(pid: int) -> None:
    with contextlib.suppress(ProcessLookupError, PermissionError):  # ended; or taken over by another user
        os.killpg(pid, signal.SIGKILL)
