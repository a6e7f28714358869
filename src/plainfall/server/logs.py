"""Server logs kept to a size: the beginning, where a server says how it started, and the end.

A server writes to the end of its log by itself (O_APPEND), so the file can be cut under it; what it writes in that
very moment may be lost. Whatever command of Plainfall looks at servers cuts their logs first.
"""

from __future__ import annotations

import os
import stat
from pathlib import Path

__all__ = ["FIRST", "LAST", "cut_log", "end_of_log"]

FIRST = 1024**2  # bytes of the beginning that stay
LAST = 20 * 1024**2  # bytes of the end that stay
_ROOM = 4 * 1024**2  # more than that beyond both before anything is cut


def end_of_log(path: Path, size: int = 256 * 1024) -> str:
    """The last part of a log, from a line's begin; "" if there is none."""
    try:
        with open(path, "rb") as file:
            entire = file.seek(0, os.SEEK_END)
            file.seek(max(0, entire - size))
            data = file.read(size)
    except OSError:
        return ""
    return (data[data.find(b"\n") + 1 :] if entire > size else data).decode("utf-8", "replace")


def cut_log(path: Path) -> int | None:
    """Cuts a log that has grown too large, at line ends; returns its new size, None if it was left as it is."""
    try:
        handle = os.open(path, os.O_RDWR | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
    except OSError:
        return None  # there is none, or it is not ours to cut
    try:
        status = os.fstat(handle)
        if not stat.S_ISREG(status.st_mode) or status.st_size <= FIRST + LAST + _ROOM:
            return None
        first = os.pread(handle, FIRST, 0)
        last = os.pread(handle, LAST, status.st_size - LAST)
        first = first[: first.rfind(b"\n") + 1] or first
        last = last[last.find(b"\n") + 1 :]
        left_out = status.st_size - len(first) - len(last)
        content = first + f"[{left_out:,} bytes were left out here by Plainfall]\n".encode() + last
        os.pwrite(handle, content, 0)
        os.ftruncate(handle, len(content))
        return len(content)
    finally:
        os.close(handle)
