"""The processes of this machine, in one pass: on Linux two short files of /proc each, elsewhere by psutil."""

from __future__ import annotations

import contextlib
import os
import platform
import sys
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path

from msgspec import Struct

__all__ = ["Entry", "holders_of", "processes", "reads_input"]


class Entry(Struct, frozen=True):
    """A process: its id, its parent's id, the id of its session, whether it has ended
    and only its status is left, and whether its environment holds a setting NAME=VALUE (never for a process of
    another user)."""

    pid: int
    parent: int
    session: int
    is_zombie: bool
    has_setting: Callable[[str, str], bool]


def processes() -> Iterator[Entry]:
    """The processes that run now; one that ends meanwhile is left out."""
    return _of_proc() if sys.platform == "linux" else _of_psutil()


def _of_proc() -> Iterator[Entry]:
    """As proc(5) has it: of ``stat`` the state, the parent and the session, which follow the name in brackets
    (which may hold brackets itself); of ``environ`` settings that end with a null byte each."""
    for name in os.listdir("/proc"):
        if not name.isdigit():
            continue
        try:
            with open(f"/proc/{name}/stat", "rb", buffering=0) as file:
                state, parent, _, session, *_ = file.read().rpartition(b")")[2].split()
        except (OSError, ValueError):
            continue  # it ended meanwhile
        yield Entry(int(name), int(parent), int(session), state in b"ZX", _environ_of_proc(name))


def _environ_of_proc(name: str) -> Callable[[str, str], bool]:
    def has_setting(key: str, value: str) -> bool:
        try:
            if os.stat(f"/proc/{name}").st_uid != os.geteuid():
                return False
            with open(f"/proc/{name}/environ", "rb") as file:
                return f"{key}={value}".encode() in file.read().split(b"\0")
        except OSError:
            return False  # it ended meanwhile, or is not ours to look into

    return has_setting


def _of_psutil() -> Iterator[Entry]:
    import psutil

    for process in psutil.process_iter():
        try:
            is_zombie = process.status() == psutil.STATUS_ZOMBIE
            session = os.getsid(process.pid)
            yield Entry(process.pid, process.ppid(), session, is_zombie, _environ_of_psutil(process.pid))
        except (psutil.Error, OSError):
            continue  # it ended meanwhile


def _environ_of_psutil(pid: int) -> Callable[[str, str], bool]:
    import psutil

    def has_setting(key: str, value: str) -> bool:
        try:
            process = psutil.Process(pid)
            return process.uids().real == os.getuid() and process.environ().get(key) == value
        except (psutil.Error, OSError):
            return False  # it ended meanwhile, or is not ours to look into

    return has_setting


def holders_of(file: Path) -> list[int]:
    """Ids of the processes, as far as this user may look at them, that have a file open (proc(5)); none on a system
    without such a table."""
    try:
        status = os.stat(file)
    except OSError:
        return []
    found = []
    for name in os.listdir("/proc") if os.path.isdir("/proc/self/fd") else ():
        if not name.isdigit() or int(name) == os.getpid():
            continue
        with contextlib.suppress(OSError):  # it has ended, or is another user's
            for entry in os.scandir(f"/proc/{name}/fd"):
                with contextlib.suppress(OSError):
                    other = os.stat(entry.path)
                    if (other.st_dev, other.st_ino) == (status.st_dev, status.st_ino):
                        found.append(int(name))
                        break
    return found


# read(2) by the machine, as the kernel shows the call that a thread is in.
_READ = {"x86_64": "0", "aarch64": "63"}


def _open_at_both_ends(pid: int) -> Iterator[str]:
    """The pipes into which a process could write by a descriptor for that alone: a server holds the other end of
    its own input (``process.start``), also where it has put that under another descriptor (proc(5), ``fd``)."""
    folder = f"/proc/{pid}/fd"
    for name in os.listdir(folder):
        if os.lstat(f"{folder}/{name}").st_mode & 0o600 == 0o200:
            target = os.readlink(f"{folder}/{name}")
            if target.startswith("pipe:"):
                yield target


def reads_input(pids: Iterable[int]) -> bool:
    """Whether one of these processes has a thread that waits for its standard input, under whatever descriptor
    (proc(5), ``syscall``); False where the system does not tell."""
    call = _READ.get(platform.machine(), "")
    for pid in pids if call else ():
        try:
            own = {os.readlink(f"/proc/{pid}/fd/0"), *_open_at_both_ends(pid)}
            for task in os.listdir(f"/proc/{pid}/task"):
                with open(f"/proc/{pid}/task/{task}/syscall") as file:
                    words = file.read(200).split()
                if words[:1] == [call] and os.readlink(f"/proc/{pid}/fd/{int(words[1], 16)}") in own:
                    return True
        except OSError:
            continue  # it has ended, or is another user's
    return False
