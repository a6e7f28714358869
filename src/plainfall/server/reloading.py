"""Whether a server takes notice when a source file changes: the file's time is set, never its content."""

from __future__ import annotations

import http.client
import os
import re
import time
from pathlib import Path
from typing import Any

from msgspec import Struct

from plainfall.patterns import regex
from plainfall.reading import without_colours
from plainfall.server.channels import open_channel
from plainfall.server.process import Running, belonging
from plainfall.server.reload_channel import Channel
from plainfall.server.visitor import ask

__all__ = ["Reloaded", "touch_and_watch"]

_TELLS = regex(r"reload|restart|detect|chang|compil|updat|rebuil|hmr|watch", re.IGNORECASE)
_PAUSE = 0.02


class Reloaded(Struct, frozen=True):
    """The file that was touched; seconds until notice was taken (None: none was), how it showed ("log",
    "processes" or "channel", with the words), and seconds until the server answered again."""

    file: str
    noticed: float | None
    how: str = ""
    answered: float | None = None

    def as_json(self) -> dict[str, Any]:
        """The form that ``probe --json`` shows."""
        return {"file": self.file, "noticed": self.noticed, "how": self.how, "answered": self.answered}


def touch_and_watch(
    running: Running, url: str, file: Path, channel: Channel | None, patience: float = 8.0
) -> Reloaded:
    """Sets the file's time to now and watches log, processes and channel for up to ``patience`` seconds."""
    log = Path(running.log)
    size = log.stat().st_size if log.exists() else 0
    before = set(belonging(running))
    listening = open_channel(url, channel) if channel is not None else None
    if listening is not None:
        listening.heard(0.3)  # a greeting
    begin = time.monotonic()
    os.utime(file)
    try:
        while (passed := time.monotonic() - begin) < patience:
            how = _notice(log, size, before, running)
            heard = listening.heard(_PAUSE) if listening is not None and not how else None
            if heard:
                how = f"channel: {' '.join(heard.split())[:80]}"
            if how:
                return Reloaded(file.name, round(passed, 2), how, _answers_again(url, begin, patience))
            time.sleep(_PAUSE)
    finally:
        if listening is not None:
            listening.close()
    return Reloaded(file.name, None)


def read_anew(url: str, file: Path) -> Reloaded:
    """A server whose runtime reads its sources with each request: the next answer is made by the edited file, and
    nothing shows that before. Nothing is touched."""
    return Reloaded(
        file.name,
        0.0,
        "its runtime reads the sources anew with each request",
        _answers_again(url, time.monotonic(), 8.0),
    )


def _notice(log: Path, size: int, before: set[int], running: Running) -> str:
    if log.exists() and log.stat().st_size > size:
        with open(log, "rb") as file:
            file.seek(size)
            text = without_colours(file.read().decode("utf-8", "replace"))
        line = next((line.strip() for line in text.splitlines() if _TELLS.search(line)), "")
        if line:
            return f"log: {line[:100]}"
    now = set(belonging(running))
    if now - before and before - now:
        return f"processes: {', '.join(map(str, sorted(now - before)))} in the place of others"
    return ""


def _answers_again(url: str, begin: float, patience: float) -> float | None:
    """Seconds from the change to the first answer after notice was taken."""
    while time.monotonic() - begin < patience * 2:
        try:
            ask(url, 2.0)
            return round(time.monotonic() - begin, 2)
        except (OSError, http.client.HTTPException):
            time.sleep(_PAUSE)
    return None
