"""A private server for one clone: its data folder made or taken from a prepared one, its start, its end.

Whoever calls holds the clone's lock, and keeps the record of what was started.
"""

from __future__ import annotations

import contextlib
import os
import shlex
import shutil
import stat
import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from plainfall.errors import DiskFull, PathRefused, ServiceFailed
from plainfall.evidence import Evidence
from plainfall.packages.cache import PackageCache
from plainfall.packages.cache_key import CacheKey
from plainfall.server.logs import end_of_log
from plainfall.server.process import Running, belonging, is_alive, start, stop
from plainfall.services.engine import Account, Engine, Owner, Place, Program, room_wanted
from plainfall.tracing import trace
from plainfall.writing import locked

if TYPE_CHECKING:
    import subprocess

    import psutil

__all__ = [
    "data_elsewhere",
    "drop_socket_folder",
    "end",
    "end_lost",
    "launch",
    "make_data",
    "programs_elsewhere",
    "may_enter",
    "program_for",
    "socket_folder",
]

_REST = Path("/var/lib/plainfall")
_READY = 60.0  # seconds until a server must let somebody in
_ENDING = 20.0  # seconds that it may take to end well
_LOST = 5.0
_MADE = 2  # changes with how engines make their data
_PREPARED = 6  # prepared folders that are kept


def program_for(engine: Engine, programs: Sequence[Program], data: Path, version: str) -> Program:
    """The program that serves the data: of the release line that made it, else the one of the version asked for,
    else the newest. Raises ServiceFailed for data that none of them reads."""
    made_by = engine.made_by(data)
    if made_by:
        for one in programs:
            if one.major == made_by:
                return one
        here = ", ".join(one.version for one in programs)
        raise ServiceFailed(
            f"the data was made by {engine.title} {made_by}, and here is only {here}",
            place=Evidence(str(data)),
            remedy=f"Install {engine.title} {made_by}; or move that folder away, and an empty database is "
            "made. Nothing in it was changed.",
        )
    asked = next((one for one in programs if version and one.version.startswith(version)), None)
    return asked or next((one for one in programs if version and one.major == version), programs[0])


def make_data(engine: Engine, program: Program, place: Place, cache: Path) -> bool:
    """Fills the data folder if it is empty; returns whether it was. The first one of a program is kept in the cache
    and copied from then on. Raises ServiceFailed, OSError; then the folder is absent."""
    if place.data.is_dir() and any(place.data.iterdir()):
        return False
    status = program.path.stat()
    key = CacheKey.of_machine(
        "services", _MADE, engine.kind, str(program.path), program.version, status.st_mtime_ns, status.st_size
    )
    prepared = PackageCache(cache).prepared(key)
    partial = place.data.with_name(f"{place.data.name}.part")
    shutil.rmtree(partial, ignore_errors=True)
    try:
        if prepared.is_dir() and _is_own(prepared):
            _copy(prepared, partial)
            os.utime(prepared)
            place.own(partial)
        else:
            partial.mkdir(mode=0o700)
            place.own(partial)
            engine.make(program, Place(partial, place.sockets, place.owner, place.variables))
            if any(partial.iterdir()):
                _keep(partial, prepared)
        os.chmod(partial, 0o700)
        with contextlib.suppress(FileNotFoundError):
            place.data.rmdir()
        partial.rename(place.data)
    except BaseException:
        shutil.rmtree(partial, ignore_errors=True)
        raise
    return True


def _copy(made: Path, place: Path) -> None:
    """Copies a data folder whole. Raises DiskFull, OSError."""
    try:
        shutil.copytree(made, place, symlinks=True)
    except shutil.Error as failures:  # one row a file: the first says it
        text = str(failures.args[0][0][2])
        advice = room_wanted(text, place)
        if not advice:
            raise
        raise DiskFull(
            f"a data folder cannot be made: {text.split(':')[0]}", place=Evidence(str(place)), remedy=advice
        ) from None


def _is_own(folder: Path) -> bool:
    status = folder.lstat()
    return stat.S_ISDIR(status.st_mode) and status.st_uid == os.geteuid()


def _keep(made: Path, prepared: Path) -> None:
    """Keeps a copy of what was made for the next clone; older ones beyond a few go."""
    prepared.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    with locked(prepared.parent / "lock"):
        if prepared.is_dir():
            return
        partial = prepared.with_name(f"{prepared.name}.part")
        shutil.rmtree(partial, ignore_errors=True)
        try:
            _copy(made, partial)
        except DiskFull as full:
            trace.debug("the prepared data folder is not kept: %s", full)  # the next clone makes one itself
            shutil.rmtree(partial, ignore_errors=True)
            return
        partial.rename(prepared)
        every = sorted(
            (one for one in prepared.parent.iterdir() if one.is_dir()), key=lambda one: one.stat().st_mtime
        )
        for old in every[:-_PREPARED]:
            shutil.rmtree(old, ignore_errors=True)


def may_enter(folder: Path, owner: Owner | None) -> bool:
    """Whether the server's user can reach a folder that is, or will be, below others."""
    if owner is None:
        return True
    return all(one.stat().st_mode & stat.S_IXOTH for one in folder.parents if one.exists())


def programs_elsewhere() -> Path:
    """The folder of server programs that were fetched as root, which other users may read. Raises PathRefused."""
    folder = _own_rest() / "programs"
    folder.mkdir(mode=0o755, exist_ok=True)
    return folder


def _own_rest() -> Path:
    """Root's folder for what does not fit elsewhere. Raises PathRefused where somebody else could write in it."""
    _REST.mkdir(mode=0o711, parents=True, exist_ok=True)
    status = _REST.lstat()
    if not stat.S_ISDIR(status.st_mode) or status.st_uid != os.geteuid() or status.st_mode & 0o022:
        raise PathRefused(
            "it is not touched: others may write there, or it is a link",
            place=Evidence(str(_REST)),
            remedy="Look at who made it so, and take it away.",
        )
    return _REST


def data_elsewhere(name: str) -> Path:
    """The data folder of a clone of root's that no other user may enter: outside of it. Raises PathRefused where
    somebody else could write above it."""
    folder = _own_rest() / name
    folder.mkdir(mode=0o711, exist_ok=True)
    data = folder / "data"
    number = 2
    while os.path.lexists(data):  # of a clone that was here before, under the same name
        data, number = folder / f"data-{number}", number + 1
    return data


def socket_folder(name: str, variables: Mapping[str, str], owner: Owner | None) -> Path:
    """A folder with a short path for a server's socket, which nobody but its owner (and root) enters: a path of
    more than 107 bytes is refused by the system. Raises ServiceFailed if somebody else has made it."""
    runtime = variables.get("XDG_RUNTIME_DIR", "")
    base = Path(runtime) / "plainfall" if runtime and owner is None and len(runtime) < 50 else None
    if base is None or not os.access(base.parent, os.W_OK):
        base = Path(f"/tmp/plainfall-{os.geteuid()}")
    base.mkdir(mode=0o711 if owner else 0o700, exist_ok=True)
    status = base.lstat()
    if not stat.S_ISDIR(status.st_mode) or status.st_uid != os.geteuid() or status.st_mode & 0o022:
        raise ServiceFailed(
            "the folder for sockets is not this user's alone",
            place=Evidence(str(base)),
            remedy="Look at who made it, take it away, and run the same command again.",
        )
    if owner is not None:
        os.chmod(base, 0o711)
    folder = base / name
    folder.mkdir(mode=0o700, exist_ok=True)
    if owner is not None:
        os.chown(folder, owner.user, owner.group)
    return folder


def drop_socket_folder(path: str) -> None:
    """Takes a server's socket folder away, if nothing is left in it."""
    with contextlib.suppress(OSError):
        Path(path).rmdir()


def launch(
    engine: Engine,
    program: Program,
    place: Place,
    port: int,
    accounts: Sequence[Account],
    log: Path,
    output: int,
    mark: str,
    keep: Callable[[Running], None],
) -> tuple[Running, list[str]]:
    """Starts the server, waits until it lets somebody in, and makes what is missing; returns it and what was made.
    ``keep`` gets the record of what is started as soon as it is known. Raises ServiceFailed; then nothing of it
    runs."""
    words = engine.words(program, place, port, accounts)
    line = f"exec {shlex.join(words)}"
    owner = place.owner.options() if place.owner else None
    running, popen = start(line, place.data, place.variables, log, port, mark, output, "", b"", owner)
    try:
        keep(running)
        _wait(engine, place, port, running, popen, log)
        made = engine.admit(place, port, accounts)
    except BaseException:
        end(engine, running, popen)
        raise
    return running, made


def _wait(
    engine: Engine, place: Place, port: int, running: Running, popen: subprocess.Popen[bytes], log: Path
) -> None:
    deadline, pause = time.monotonic() + _READY, 0.005
    while not engine.is_ready(place, port, running.pid):
        status = popen.poll()
        if status is not None or time.monotonic() > deadline:
            said = (
                f"ended with status {status}"
                if status is not None
                else f"let nobody in within {_READY:.0f} s"
            )
            lines = [line for line in end_of_log(log).splitlines() if line.strip()]
            raise ServiceFailed(
                f"{engine.title} {said}",
                lines=tuple(lines[-6:]),
                log=str(log),
                remedy=room_wanted("\n".join(lines), place.data)
                or "Read the lines above; the whole output is in the log. The data is as it was; where "
                f"its rows can be made again, move {place.data} away, and an empty one is made.",
            )
        time.sleep(pause)
        pause = min(pause * 1.5, 0.1)


def end(engine: Engine, running: Running, popen: subprocess.Popen[Any] | None = None) -> list[int]:
    """Ends a server well, by force if that takes too long; returns the ids of its processes. Raises ServerFailed if
    one stays."""
    before = belonging(running)
    if is_alive(running.pid, running.started):
        with contextlib.suppress(ProcessLookupError):
            os.kill(running.pid, engine.stop_signal)
        deadline = time.monotonic() + _ENDING
        while time.monotonic() < deadline and belonging(running):
            if popen is not None:
                popen.poll()
            time.sleep(0.01)
    return sorted({*before, *stop(running, popen)})


def end_lost(engine: Engine, place: Place) -> None:
    """Servers of this very data folder that a run which was killed left behind, with all their processes, and
    what they left in it. Raises ServiceFailed where one stays: two on the same data would destroy it. To be
    called before there is data: one whose folder was deleted and made anew would write its state into the new
    one, too."""
    import psutil

    holders = _holders(place.data)
    for process in holders:
        with contextlib.suppress(psutil.Error):
            process.send_signal(engine.stop_signal)
    _, left = psutil.wait_procs(holders, _LOST)
    for process in left:
        with contextlib.suppress(psutil.Error):
            process.kill()
    psutil.wait_procs(left, _LOST)
    still = _holders(place.data)
    if still:
        raise ServiceFailed(
            f"processes {', '.join(str(one.pid) for one in still)} still use the data, and cannot be ended",
            place=Evidence(str(place.data)),
            remedy="End them, then run the same command again.",
        )
    # Nothing uses it: what names a process there is left over, and its number may be another process's by now.
    for file in (place.data / "postmaster.pid", *place.sockets.glob(".s.*"), *place.sockets.glob("*.sock*")):
        with contextlib.suppress(OSError):
            file.unlink()


def _holders(data: Path) -> list[psutil.Process]:
    """The live processes that work in a data folder, or were told of it."""
    import psutil

    found = []
    for process in psutil.process_iter():
        with contextlib.suppress(psutil.Error):
            if process.status() == psutil.STATUS_ZOMBIE or process.pid == os.getpid():
                continue
            told = any(
                word.rpartition("=")[2] == str(data) or Path(word).parent == data
                for word in process.cmdline()
            )
            if told or process.cwd() == str(data):
                found.append(process)
    return found
