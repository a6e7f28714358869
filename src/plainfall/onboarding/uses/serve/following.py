"""Follows running servers: what they write, and whether they end, restart or are in a restart loop."""

from __future__ import annotations

import os
import time
from collections import deque
from collections.abc import Mapping
from pathlib import Path

from msgspec import Struct, field

from plainfall.ecosystems import languages
from plainfall.kept_records import ProcessKept
from plainfall.onboarding.stages.starting import running_of
from plainfall.server.logs import cut_log
from plainfall.server.process import belonging, has_ended

__all__ = ["Follower", "Happening"]

_LOOK = 0.5  # seconds between two looks at the processes
_CIRCLE = 4  # new processes within the time below are no restarts after edits any more
_CIRCLE_SECONDS = 15.0
_TEMPLATES = (".html", ".css")


class Happening(Struct, frozen=True):
    """An event of a part's server: ``kind`` is "line" (it wrote one), "restarted", "circle" (it is in a restart
    loop) or "ended"; the text for people."""

    part: str
    kind: str
    text: str


class _Followed(Struct):
    record: ProcessKept
    offset: int = 0
    rest: bytes = b""
    pids: frozenset[int] = frozenset()
    restarts: deque[float] = field(default_factory=lambda: deque(maxlen=_CIRCLE))
    over: bool = False


class Follower:
    """Follows the servers of these records (by part). ``folders`` are the parts' folders, whose sources are
    looked at when a server starts anew; with ``from_end`` what is in the logs already is skipped."""

    def __init__(
        self, records: Mapping[str, ProcessKept], folders: Mapping[str, Path], *, from_end: bool = False
    ) -> None:
        self._folders = folders
        self._followed = {part: _Followed(record) for part, record in records.items()}
        self._next = 0.0
        for one in self._followed.values():
            one.pids = frozenset(belonging(running_of(one.record)))
            if from_end and Path(one.record.log).exists():
                one.offset = Path(one.record.log).stat().st_size

    @property
    def running(self) -> bool:
        """Whether any of them has not ended."""
        return any(not one.over for one in self._followed.values())

    def poll(self) -> list[Happening]:
        """What happened since the last call."""
        results = [
            Happening(part, "line", line) for part, one in self._followed.items() for line in _lines(one)
        ]
        if time.monotonic() >= self._next:
            self._next = time.monotonic() + _LOOK
            for part, one in self._followed.items():
                size = cut_log(Path(one.record.log))
                if size is not None:
                    one.offset = size
                if not one.over:
                    results += self._look(part, one)
        return results

    def _look(self, part: str, one: _Followed) -> list[Happening]:
        pids = frozenset(belonging(running_of(one.record)))
        if not pids and has_ended(running_of(one.record)):
            one.over = True
            last = [Happening(part, "line", line) for line in _lines(one, whole=True)]
            return [*last, Happening(part, "ended", "its processes have ended")]
        new, gone = pids - one.pids, one.pids - pids
        one.pids = pids
        if not (new and gone):
            return []  # as before, or more or fewer workers
        one.restarts.append(time.monotonic())
        if len(one.restarts) == _CIRCLE and one.restarts[-1] - one.restarts[0] < _CIRCLE_SECONDS:
            times = f"{_CIRCLE} times within {_CIRCLE_SECONDS:.0f} s"
            text = f"restarted {times}: a restart loop"
            return [Happening(part, "circle", text)]
        edited = _edited_lately(self._folders.get(part))
        why = f" after an edit of {edited}" if edited else ""
        ids = ", ".join(map(str, sorted(new)))
        return [Happening(part, "restarted", f"restarted{why}: process {ids}")]


def _lines(one: _Followed, *, whole: bool = False) -> list[str]:
    """New lines of the log; an unfinished last one only if ``whole``."""
    try:
        with open(one.record.log, "rb") as file:
            if os.fstat(file.fileno()).st_size < one.offset:
                one.offset, one.rest = 0, b""  # somebody emptied it
            file.seek(one.offset)
            data = file.read(1 << 20)
    except OSError:
        return []
    one.offset += len(data)
    pieces = (one.rest + data).split(b"\n")
    one.rest = b"" if whole else pieces.pop()
    return [piece.decode("utf-8", "replace").rstrip("\r") for piece in pieces if piece or not whole]


def _edited_lately(folder: Path | None) -> str | None:
    """The source file of a folder that was changed last, if that was within the last seconds."""
    if folder is None:
        return None
    newest, name = time.time() - 5.0, None
    packages = {folder for one in languages() for folder in one.package_folders}
    endings = tuple(ending for one in languages() for reader in one.readers for ending in reader.endings)
    for path, folders, files in os.walk(folder):
        folders[:] = [one for one in folders if not one.startswith(".") and one not in packages]
        for file in files:
            if file.endswith((*endings, *_TEMPLATES)):
                changed = os.stat(os.path.join(path, file)).st_mtime
                if changed > newest:
                    newest, name = changed, os.path.relpath(os.path.join(path, file), folder)
    return name
