"""Waiting for a server's first real answer: a pause proves nothing, and neither does an open port.

Log, sockets and a real answer are looked at together. A log that grows is progress; a question in it that
nobody can answer, and a server in a restart loop, end the wait early.
"""

from __future__ import annotations

import contextlib
import http.client
import os
import re
import socket
import ssl
import subprocess
import time
from collections import deque
from collections.abc import Callable, Iterable
from pathlib import Path

import psutil
from msgspec import Struct

from plainfall.patterns import regex
from plainfall.reading import without_colours
from plainfall.server.ports import listening_ports
from plainfall.server.process import Running, belonging, has_ended
from plainfall.server.process_table import reads_input
from plainfall.server.visitor import LOOPBACK

__all__ = ["Ready", "wait_until_ready"]

_PAUSE = 0.01  # seconds between two tries at the port
_LOOK = 0.3  # seconds between two looks at all sockets and processes, which cost some 20 ms each
_FIRST_ANSWER = 5.0  # seconds that one try may take
_GROWING = 15.0  # a log that grew within so many seconds shows progress
_WORKS = 0.1  # seconds of processor time between two looks that show work, too
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
# A reloader whose server ended with an error, and that starts it again after an edit.
_CRASHED = regex(
    r"waiting for (?:a )?files? (?:to )?changes?\b|waiting for changes before restart", re.IGNORECASE
)
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
        self.grew = float("-inf")

    def look(self) -> None:
        try:
            size = os.stat(self._path).st_size
        except OSError:
            return
        if size != self._size:
            self._size, self.grew = size, time.monotonic()

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
        return "Exception in thread " in end and _ERROR.match(end.rpartition("\n")[2]) is not None

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
    next_look = begin + _LOOK
    log = _Log(running.log)
    used = 0.0
    seen: dict[int, str] = {}
    settled: set[int] = set()
    anew: deque[float] = deque(maxlen=_CIRCLE)
    mute: set[int] = set()
    since: dict[int, float] = {}
    while True:
        now = time.monotonic()
        waited = now - begin
        if waited >= patience and (now - log.grew > _GROWING or waited >= patience * _LONGER):
            return Ready("silent", seconds=waited, mute=tuple(sorted(mute)))
        status = process.poll()
        if status is not None and has_ended(running):
            return Ready("ended", exit_status=status, seconds=waited)
        looks = now >= next_look
        if looks or _connects(running.port):
            if looks:
                next_look = time.monotonic() + _LOOK
                log.look()
                here = frozenset(belonging(running))
                lines = {pid: seen.get(pid) or _command_of(pid) for pid in here}
                before, used = used, _cpu_seconds(here)
                if before and used - before > _WORKS:
                    log.grew = now
                # One that was there for a while ended, and one like it came: helpers that are asked once do not
                # count.
                ended = {line for pid, line in seen.items() if pid not in here and pid in settled}
                if ended & {line for pid, line in lines.items() if pid not in seen}:
                    anew.append(now)
                settled = {pid for pid in here if pid in seen}
                seen = lines
            for port, address in _places(running).items():
                if port != running.port and now - since.setdefault(port, now) < elsewhere:
                    continue
                scheme = _answers(
                    host := _loopback(address, port), port, min(_FIRST_ANSWER, max(0.2, patience - waited))
                )
                if scheme in ("http", "https"):
                    beyond = "" if address in LOOPBACK or address.startswith("127.") else address
                    seconds = time.monotonic() - begin
                    return Ready("answers", port, host, None, seconds, scheme, beyond)
                if scheme == "mute":
                    mute.add(port)
            if looks and len(anew) == _CIRCLE:
                return Ready("circles", seconds=waited)
            if looks and log.crashed():
                return Ready("ended", exit_status=1, seconds=waited)
            if looks and not since and waited > _TALKS_AFTER and log.prompts():
                return Ready("talks", seconds=waited)
            if (
                looks
                and not since
                and waited > _READS_AFTER
                and now - log.grew > _GROWING
                and reads_input(here)
            ):
                return Ready("talks", seconds=waited)
            question = log.question() if looks else ""
            if question:
                return Ready("asks", seconds=waited, question=question)
        tick(waited)
        time.sleep(_PAUSE)


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


def _connects(port: int) -> bool:
    try:
        with socket.create_connection(("127.0.0.1", port), timeout=0.2):
            return True
    except OSError:
        return False


def _loopback(address: str, port: int) -> str:
    """The loopback address by which a socket on an address is reached; one on all IPv6 addresses takes IPv4,
    too, most often."""
    if address in ("0.0.0.0", "") or (address == "::" and _connects(port)):
        return "127.0.0.1"
    return "::1" if address == "::" else address


def _answers(host: str, port: int, timeout: float) -> str:
    """The scheme by which a port gives the head of an answer; "mute" if it says what is no HTTP, "" if it
    says nothing. Some servers with certificates answer a plain request too, to say that it is a bad one."""
    status = _head(http.client.HTTPConnection(host, port, timeout=timeout))
    if status not in (0, 400):
        return "http" if status > 0 else ""
    context = ssl.create_default_context()
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    secure = http.client.HTTPSConnection(host, port, timeout=min(timeout, 2.0), context=context)
    return "https" if _head(secure) > 0 else "http" if status else "mute"


def _head(connection: http.client.HTTPConnection) -> int:
    """The status of an answer whose body is not waited for; 0 if what comes is none, -1 if nothing comes."""
    try:
        connection.request("GET", "/", headers={"Accept": "text/html,*/*;q=0.8", "User-Agent": "plainfall"})
        transport = connection.sock
        response = connection.getresponse()
        transport.settimeout(0.1)
        with contextlib.suppress(OSError, http.client.HTTPException):
            response.read1(1 << 16)  # hanging up on it sooner would be rude
        return response.status
    except TimeoutError:
        return -1
    except (OSError, http.client.HTTPException, ValueError):
        return 0
    finally:
        connection.close()
