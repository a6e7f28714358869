"""Starting a server in a session of its own, finding all that belongs to it, and ending it for certain."""

from __future__ import annotations

import contextlib
import os
import secrets
import signal
import subprocess
import sys
import time
from collections.abc import Mapping
from pathlib import Path
from typing import Any, TypeVar

from msgspec import Struct
from msgspec.structs import asdict, replace

from plainfall import processes
from plainfall.errors import ServerFailed
from plainfall.kept_records import ProcessKept
from plainfall.server import process_table
from plainfall.server.control_group import enter_words, kill_group, members, remove_group
from plainfall.server.ports import holder_of, is_free

__all__ = [
    "MARK",
    "Running",
    "adopt_orphans",
    "belonging",
    "has_ended",
    "is_alive",
    "marked",
    "orphans",
    "new_mark",
    "start",
    "stop",
    "with_others",
]

# Put into the environment of each server: whatever it starts and however that detaches, it can be found.
MARK = "PLAINFALL_SERVER_MARK"
_LOOKS = 4  # empty looks in a row after which a server counts as ended
_PATIENCE = 5.0  # seconds between asking a process to end and forcing it


P = TypeVar("P", bound=ProcessKept)


class Running(Struct, frozen=True):
    """A server that was started: the leader's process id and start time (seconds since 1970, as the system
    states it), the mark, the command line, the log, the port it was given; and, once it has answered, the ids
    and start times of its other processes, since one may leave the session and shed the mark; and its control
    group, "" where none could be made."""

    pid: int
    started: float
    mark: str
    command: str
    log: str
    port: int
    others: tuple[tuple[int, float], ...] = ()
    group: str = ""

    def kept(self) -> ProcessKept:
        """The record of it."""
        return ProcessKept(**asdict(self))

    def kept_in(self, record: P) -> P:
        """A record with this in the place of the process that it had."""
        return replace(record, **asdict(self))

    @classmethod
    def of_record(cls, record: ProcessKept) -> Running:
        """The value of a record."""
        return cls(**{name: getattr(record, name) for name in cls.__struct_fields__})


def new_mark() -> str:
    """A mark that no other server has."""
    return secrets.token_hex(8)


def start(
    command: str,
    folder: Path,
    variables: Mapping[str, str],
    log: Path,
    port: int,
    mark: str,
    output: int | None = None,
    group: str = "",
    answers: bytes = b"",
    owner: Mapping[str, Any] | None = None,
) -> tuple[Running, subprocess.Popen[bytes]]:
    """Starts the command line in ``folder``, its output into the descriptor ``output`` of the file ``log``, which
    is closed here (without one the file is emptied, with mode 600). Nothing but ``answers`` (4 kB at the most) ever
    comes on its input, which does not end either, since some servers end with it. ``owner`` are options of
    subprocess.Popen that start it as another user. Raises ServerFailed if it cannot be started at all."""
    import psutil

    adopt_orphans()
    if output is None:
        log.parent.mkdir(parents=True, exist_ok=True)
        output = os.open(log, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_APPEND, 0o600)
    silence, value = os.pipe()  # the server itself holds the other end, and so the pipe lasts as long as it
    if answers:
        os.write(value, answers)
    try:
        process = processes.start(
            enter_words(group, command),
            {**variables, MARK: mark},
            folder=folder,
            stdin=silence,
            pass_fds=(value,),
            stdout=output,
            stderr=subprocess.STDOUT,
            **(owner or {}),
        )
    except OSError as error:
        raise ServerFailed(f"the server could not be started: {error.strerror}") from error
    finally:
        for one in (output, silence, value):
            os.close(one)
    try:
        started = psutil.Process(process.pid).create_time()
    except psutil.Error:
        started = time.time()
    return Running(process.pid, started, mark, command, str(log), port, group=group), process


def is_alive(pid: int, started: float) -> bool:
    """Whether that very process still runs: the same id and start time, and not a zombie."""
    import psutil

    try:
        process = psutil.Process(pid)
        return abs(process.create_time() - started) < 0.05 and process.status() != psutil.STATUS_ZOMBIE
    except psutil.Error:
        return False


def belonging(running: Running) -> list[int]:
    """Ids of all live processes of the server: its control group, its session, its descendants, and what bears
    its mark."""
    leader = running.pid if is_alive(running.pid, running.started) else None
    known = [pid for pid, started in running.others if is_alive(pid, started)]
    return _gathered(running.mark, leader, [*known, *members(running.group)])


def has_ended(running: Running) -> bool:
    """Whether nothing of the server lives. A process that has just forked, or is being replaced by another
    program, is not seen for a moment: only what several looks agree on counts."""
    for _ in range(_LOOKS):
        if belonging(running):
            return False
        time.sleep(0.02)
    return True


def with_others(running: Running) -> Running:
    """The server with the processes that are seen of it now, and those that came to this process when their own
    parents ended."""
    import psutil

    seen = []
    for pid in {*belonging(running), *orphans()}:
        try:
            seen.append((pid, psutil.Process(pid).create_time()))
        except psutil.Error:
            continue  # it ended meanwhile
    return replace(running, others=tuple(seen))


def marked(mark: str, group: str = "") -> list[int]:
    """Ids of all live processes that bear a mark, or are in a control group."""
    return _gathered(mark, None, members(group))


def orphans() -> list[int]:
    """Ids of live processes that this process has become the parent of, since theirs ended; nothing that it
    started itself, nor what is left in the sessions of that."""
    import psutil

    own = processes.running()
    workers = sys.modules.get("multiprocessing.process")
    own |= {worker.pid for worker in workers.active_children()} if workers is not None else set()
    results = []
    for child in psutil.Process().children():
        with contextlib.suppress(psutil.Error, OSError):  # it ended meanwhile
            if child.pid in own or child.status() == psutil.STATUS_ZOMBIE:
                continue
            session = os.getsid(child.pid)
            if session not in own and session != os.getsid(0):
                results.append(child.pid)
    return results


def _gathered(mark: str, leader: int | None, seen: list[int]) -> list[int]:
    """Those of the leader's session, those with the mark, those seen before, and all that these started."""
    result, parents, dead = set(seen), {}, set()
    for entry in process_table.processes():
        if entry.is_zombie:
            dead.add(entry.pid)
            continue
        parents[entry.pid] = entry.parent
        if (leader is not None and entry.session == leader) or entry.has_setting(MARK, mark):
            result.add(entry.pid)
    more = True
    while more and result:
        started = {pid for pid, parent in parents.items() if parent in result} - result
        result |= started
        more = bool(started)
    return sorted(result - dead)


def stop(
    running: Running, popen: subprocess.Popen[bytes] | None = None, patience: float = _PATIENCE
) -> list[int]:
    """Ends all that belongs to the server: asks (SIGTERM), waits ``patience`` seconds, forces (SIGKILL).

    Returns the ids that were ended (none if it had ended before). Raises ServerFailed if a process stays,
    or if the server's port is still in use by one of them.
    """
    ended = belonging(running)
    value = _port_of(running, ended)
    for force in (signal.SIGTERM, signal.SIGKILL):
        asked: set[int] = set()
        if force is signal.SIGKILL:
            kill_group(running.group)
        deadline = time.monotonic() + patience
        while time.monotonic() < deadline:
            pids = set(belonging(running))
            # What was asked may start others on its way out.
            for pid in pids - asked if force is signal.SIGTERM else pids:
                _send(pid, force)
            asked |= pids
            ended = sorted({*ended, *pids})
            if popen is not None:
                popen.poll()
            if not pids and has_ended(running):
                break
            time.sleep(0.02)
        else:
            continue
        break
    left = belonging(running)
    if left:
        raise ServerFailed(
            f"processes {', '.join(map(str, left))} of the server cannot be ended",
            remedy="They hang in the system (a lost network disk, most often); a restart ends them.",
        )
    _reap([running.pid, *ended], popen)
    remove_group(running.group)
    for port in value:
        # The system lets go of the sockets of a killed process a moment after it has taken it off its table.
        deadline = time.monotonic() + _PATIENCE
        while not is_free(port) and (holder := holder_of(port)) and holder.pid in ended:
            if time.monotonic() > deadline:
                raise ServerFailed(f"port {port} is still in use by {holder}")
            time.sleep(0.02)
    return ended


def _reap(pids: list[int], popen: subprocess.Popen[bytes] | None) -> None:
    """Takes ended processes that are children of ours off the process table."""
    if popen is not None:
        popen.wait()
    for pid in pids:
        with contextlib.suppress(ChildProcessError):  # another process's child: that one reaps it
            os.waitpid(pid, os.WNOHANG)


def adopt_orphans() -> None:
    """Makes this process the parent of what a server's leader leaves behind when it ends, so that it can be
    reaped: the first process of a container often does not (prctl(2), PR_SET_CHILD_SUBREAPER)."""
    if sys.platform == "linux":
        import ctypes

        ctypes.CDLL(None).prctl(36, 1, 0, 0, 0)


def _port_of(running: Running, pids: list[int]) -> list[int]:
    from plainfall.server.ports import listening_ports

    return sorted({running.port, *listening_ports(pids)})


def _send(pid: int, number: int) -> None:
    try:
        os.kill(pid, number)
    except ProcessLookupError:
        return  # it ended by itself, which is what was wanted
