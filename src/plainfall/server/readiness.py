"""Waiting for a server's first real answer: a pause proves nothing, and neither does an open port.

Log, sockets and a real answer are looked at together. A log that grows is progress; a question in it that
nobody can answer, and a server in a restart loop, end the wait early.
"""

from __future__ import annotations

import os
import re
import subprocess
import time
from collections import deque
from collections.abc import Callable, Iterable
from pathlib import Path

import msgspec
import psutil
from msgspec import Struct

from plainfall.patterns import regex
from plainfall.reading import without_colours
from plainfall.server.first_answer import FirstAnswer, accepts, loopback_of
from plainfall.server.logs import end_of_log
from plainfall.server.ports import listening_ports
from plainfall.server.process import Running, belonging, has_ended
from plainfall.server.process_table import reads_input
from plainfall.server.visitor import LOOPBACK

__all__ = ["Ready", "wait_until_ready"]

_PAUSE = 0.01  # seconds between two tries at the port
_LOOK = 0.3  # seconds between two looks at all sockets and processes, which cost some 20 ms each
_GIVEN_FIRST = 5.0  # seconds that an answer of another port waits for the given one, and for the log
_REST = 1.0  # seconds until a port that was hung up on is asked again
_HANGS_UP = 8  # times after which a log that grows shows no progress: it is our own requests that it notes
_QUIET = 0.7  # seconds for which the log is quiet before a port counts that it does not name
_QUIET_EPHEMERAL = 3.0  # the same, of a port that the system chose
_EPHEMERAL = 32768  # the first of them (ip(7), ip_local_port_range)
_GROWING = 15.0  # a log that grew within so many seconds shows progress
_WORKS = 0.1  # share of a processor between two looks that shows work, too; on a busy machine all have less
_LONGER = 4  # times the patience is the most that progress is waited for
_SILENT_AFTER_QUESTION = 1.5
_CIRCLE = 4  # restarts without an answer: a restart loop

# A question at the end of a log: with the answers that it offers, or on a line that is not ended.
_OFFERS = regex(
    r"[^\n]{0,200}\?[^\n]{0,40}[(\[](?:y/n|yes/no|y/N|Y/n|Y/N)[)\]][^\n]{0,12}$"
    r"|[^\n]{0,200}\?[ \t]{0,9}(?:»|›)[^\n]{0,200}$"
)
# A line that says that the Enter key goes on.
_ENTER = regex(r"\b(?:press|hit|type) (?:enter|return)\b[^\n]{0,40}$", re.IGNORECASE)
# A reloader whose server ended with an error, and that starts it again after an edit: its last words, or the line
# that Node ends with after an error that nobody caught.
_CRASHED = regex(
    r"waiting for (?:a )?files? (?:to )?changes?\b|waiting for changes before restart|^Failed running '"
    r"|^ERROR:\s+Error loading ASGI app|^Node\.js v\d+\.\d+\.\d+$",
    re.IGNORECASE,
)
# A thread, or a process of a pool or a reloader, that an error has ended (threading, multiprocessing).
_ENDED_BY_IT = regex(r"Exception in thread |^Process \S{1,60}:$", re.MULTILINE)
# The last line of a traceback; with a main thread that has ended by it, a reloader goes on alone.
_ERROR = regex(r"[\w.]{0,100}(?:Error|Exception|NotFound|ImproperlyConfigured)\b")
_WAITS = ("?", ":", "»", "›")
# A prompt at which a program takes commands: it talks with a person, and serves no page.
_PROMPT = regex(r"^[^\n]{0,80}(?:>>>|[\w\])] ?>|❯|➜)[ \t]*$")
_TALKS_AFTER = 6.0  # seconds without any port
_READS_AFTER = 12.0  # the same, of a program that shows no prompt and waits for its standard input


class Ready(Struct, frozen=True):
    """How the wait ended: ``state`` is "answers", "ended" (with the exit status), "asks" (a question, in
    ``question``), "talks" (it waits for commands on its standard input), "circles" or "silent"; the scheme, port
    and host that answered; seconds waited; the address on which it listens beyond this machine, if it does ("" if
    not); ports that are open and speak no HTTP."""

    state: str
    port: int = 0
    host: str = "127.0.0.1"
    exit_status: int | None = None
    seconds: float = 0.0
    scheme: str = "http"
    beyond: str = ""
    question: str = ""
    mute: tuple[int, ...] = ()


class _Log:
    """The end of a log file, looked at when it has grown."""

    def __init__(self, path: str) -> None:
        self._path = Path(path)
        self._size = 0
        self.grew = float("-inf")  # when it last grew, or the processes last worked
        self.wrote = float("-inf")  # when it last grew

    def look(self) -> None:
        try:
            size = os.stat(self._path).st_size
        except OSError:
            return
        if size != self._size:
            self._size = size
            self.grew = self.wrote = time.monotonic()

    def _end(self, size: int = 600) -> str:
        """Its end, if it has been silent since; else empty."""
        if not self._size or time.monotonic() - self.grew < _SILENT_AFTER_QUESTION:
            return ""
        try:
            with open(self._path, "rb") as file:
                file.seek(max(0, self._size - size))
                end = file.read().decode("utf-8", "replace")
        except OSError:
            return ""
        return without_colours(end)

    def crashed(self) -> bool:
        """Whether it ends with the word of a reloader that its server has ended, or with the error that ended its
        main thread."""
        if _CRASHED.search(self._end().rstrip().rpartition("\n")[2]) is not None:
            return True
        end = self._end(20_000).rstrip()
        return _ENDED_BY_IT.search(end) is not None and _ERROR.match(end.rpartition("\n")[2]) is not None

    def names(self, port: int) -> bool:
        """Whether an address in it has the port."""
        text = without_colours(end_of_log(self._path))
        return regex(rf"(?:localhost|\d|\]|\*|://[\w.-]{{1,60}}):{port}\b").search(text) is not None

    def prompts(self) -> bool:
        """Whether it ends with a prompt and has been silent since."""
        last = self._end().rpartition("\n")[2]
        return bool(last) and _PROMPT.match(last) is not None

    def question(self) -> str:
        """What it asks, if it ends in a question and has been silent since."""
        end = self._end()
        match = _OFFERS.search(end.rstrip())
        if match is not None:
            return " ".join(match.group(0).split())
        last = end.rpartition("\n")[2]
        waits = last.rstrip().endswith(_WAITS)
        last = last if waits else end.rstrip().rpartition("\n")[2]
        return " ".join(last.split()) if waits or _ENTER.search(last.rstrip()) else ""


def wait_until_ready(
    running: Running,
    process: subprocess.Popen[bytes],
    patience: float,
    tick: Callable[[float], None],
    *,
    elsewhere: float = 0.5,
) -> Ready:
    """Waits up to ``patience`` seconds (longer while its log grows or its processes work) for an HTTP or HTTPS
    answer of any status from a port that the server's own processes hold. ``tick`` is told the seconds waited. A
    server that listens elsewhere than on the port it was given is found by its sockets; such a port is asked only
    after it has been open for ``elsewhere`` seconds, since some are not for everybody (a debugger's, a
    channel's)."""
    begin = time.monotonic()
    log = _Log(running.log)
    family = _Family(running)
    doors = _Doors(running, patience * _LONGER, elsewhere)
    next_look = begin + _LOOK
    try:
        while True:
            now = time.monotonic()
            waited = now - begin
            looks = now >= next_look
            grows = now - log.grew <= _GROWING and doors.hung_up < _HANGS_UP
            if waited >= patience and (not grows or waited >= patience * _LONGER):
                talks = not doors.since and reads_input(belonging(running))
                return Ready("talks" if talks else "silent", seconds=waited, mute=tuple(sorted(doors.mute)))
            status = process.poll()
            if status is not None and has_ended(running):
                return Ready("ended", exit_status=status, seconds=waited)
            if looks:
                next_look = time.monotonic() + _LOOK
                log.look()
                if family.works():
                    log.grew = now
            if looks or doors.waits_for_the_given():
                doors.ask(now)
            door = doors.answered(now, log)
            if door is not None:
                return msgspec.structs.replace(door, seconds=time.monotonic() - begin)
            ended = _ends_early(log, family, doors, waited) if looks else None
            if ended is not None:
                return msgspec.structs.replace(ended, seconds=waited)
            tick(waited)
            time.sleep(_PAUSE)
    finally:
        doors.close()


def _ends_early(log: _Log, family: _Family, doors: _Doors, waited: float) -> Ready | None:
    """What the log and the processes say that no answer will come after; None as long as one may."""
    if family.circles():
        return Ready("circles")
    if log.crashed():
        return Ready("ended", exit_status=1)
    talks = log.prompts() and waited > _TALKS_AFTER
    quiet = time.monotonic() - log.grew > _GROWING and waited > _READS_AFTER
    if not doors.since and (talks or (quiet and reads_input(family.here))):
        return Ready("talks")
    question = log.question()
    return Ready("asks", question=question) if question else None


class _Family:
    """The processes that belong to a server, from look to look: whether they work, and whether they are started
    again and again."""

    def __init__(self, running: Running) -> None:
        self._running = running
        self._used = 0.0
        self._seen = 0.0  # when they were last looked at
        self._lines: dict[int, str] = {}
        self._settled: set[int] = set()
        self._anew: deque[float] = deque(maxlen=_CIRCLE)
        self.here: frozenset[int] = frozenset()

    def works(self) -> bool:
        """Looks at them; whether they have used processor time since the last look."""
        self.here = here = frozenset(belonging(self._running))
        lines = {pid: self._lines.get(pid) or _command_of(pid) for pid in here}
        before, self._used = self._used, _cpu_seconds(here)
        then, self._seen = self._seen, time.monotonic()
        # One that was there for a while ended, and one like it came: helpers that are asked once do not count.
        ended = {line for pid, line in self._lines.items() if pid not in here and pid in self._settled}
        if ended & {line for pid, line in lines.items() if pid not in self._lines}:
            self._anew.append(time.monotonic())
        self._settled = {pid for pid in here if pid in self._lines}
        self._lines = lines
        return bool(before) and self._used - before > _WORKS * (self._seen - then)

    def circles(self) -> bool:
        """Whether one of them was started anew often enough to call it a restart loop."""
        return len(self._anew) == _CIRCLE


class _Doors:
    """The ports that a server's own processes hold, and the request that is under way at each. The given port
    counts as soon as it answers, and one that the log names; any other once the log is quiet, for it may be a
    helper's, and one that the system chose last of all."""

    def __init__(self, running: Running, patience: float, elsewhere: float) -> None:
        self._running = running
        self._patience = patience
        self._elsewhere = elsewhere
        self._asked: dict[int, FirstAnswer] = {}
        self._addresses: dict[int, str] = {}
        self._begun: dict[int, float] = {}
        self._rests: dict[int, float] = {}  # until when a port that was hung up on is not asked again
        self._answered: dict[int, float] = {}  # when a port first had an answer
        self.hung_up = 0
        self.mute: set[int] = set()
        self.since: dict[int, float] = {}  # when a port that was not given was first seen open

    def waits_for_the_given(self) -> bool:
        """Whether the given port is open, and nothing was asked there yet."""
        port = self._running.port
        return port not in self._asked and port not in self._rests and accepts(port)

    def ask(self, now: float) -> None:
        """Sends a request to each port that is held and has none under way."""
        self._addresses = _places(self._running)
        for port, address in self._addresses.items():
            early = port != self._running.port and now - self.since.setdefault(port, now) < self._elsewhere
            if port not in self._asked and not early and now >= self._rests.get(port, 0.0):
                self._asked[port] = FirstAnswer(loopback_of(address, port), port, self._patience)
                self._begun[port] = now

    def answered(self, now: float, log: _Log) -> Ready | None:
        """The port that counts, if one has answered; one that was hung up on is asked again at the next look."""
        for port in sorted(
            self._asked, key=lambda port: (port != self._running.port, port >= _EPHEMERAL, port)
        ):
            asked = self._asked[port]
            if asked.scheme is None:
                continue
            if asked.scheme not in ("http", "https"):
                if asked.scheme == "mute":
                    self.mute.add(port)
                else:
                    self.hung_up += 1
                del self._asked[port]
                self._rests[port] = now + _REST
            elif self._counts(port, now, log):
                address = self._addresses.get(port, "")
                beyond = "" if not address or address in LOOPBACK or address.startswith("127.") else address
                return Ready("answers", port, asked.host, None, 0.0, asked.scheme, beyond)
        return None

    def _counts(self, port: int, now: float, log: _Log) -> bool:
        given = self._running.port
        if port == given or now - self._answered.setdefault(port, now) > _GIVEN_FIRST:
            return True
        if given in self._asked and now - self._begun[given] < _GIVEN_FIRST:
            return False
        quiet = now - max(log.wrote, self.since.get(port, now))
        return log.names(port) or quiet > (_QUIET_EPHEMERAL if port >= _EPHEMERAL else _QUIET)

    def close(self) -> None:
        """Hangs up wherever a request is under way."""
        for asked in self._asked.values():
            asked.end()


def _command_of(pid: int) -> str:
    try:
        return " ".join(psutil.Process(pid).cmdline())
    except psutil.Error:
        return ""  # it ended between the look and this one


def _cpu_seconds(pids: Iterable[int]) -> float:
    """The processor time that these processes have used, in seconds."""
    total = 0.0
    for pid in pids:
        try:
            times = psutil.Process(pid).cpu_times()
        except psutil.Error:
            continue  # it ended between the look and this one
        total += times.user + times.system
    return total


def _places(running: Running) -> dict[int, str]:
    """The ports that the server's processes really hold, the given one first, each with its address."""
    ports = listening_ports(belonging(running))
    order = sorted(ports, key=lambda port: (port != running.port, port))
    return {port: ports[port] for port in order}
