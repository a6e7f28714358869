"""Files of the person's that Plainfall adds to: what they were before, so that they can be put back."""

from __future__ import annotations

import os
from pathlib import Path

from plainfall.errors import PlainfallError
from plainfall.kept_records import MadeKept
from plainfall.onboarding.records.state import CloneState
from plainfall.writing import digest_of

__all__ = ["KEPT_SETTINGS", "SETTINGS", "as_written", "bring_settings_back", "note_written", "put_back"]

SETTINGS = "settings"  # the kind of what was made
KEPT_SETTINGS = "settings"  # the folder, in the state folder, of files that `clear` kept for the data


def _copy_of(state: CloneState, path: str) -> Path:
    """Where the text of a file is kept as it was before Plainfall wrote to it."""
    return state.folder / "before" / state.name_of(path)


def note_written(state: CloneState, path: str, text: str) -> None:
    """Notes that a file (a path from the clone) is about to be written with this text. What it was before the first
    time is kept, readable by the user alone; that somebody changed it since is noted."""
    row = state.made.get(path, MadeKept())
    current = _current(state, path)
    if row.text is None:
        if current is not None:
            status = os.stat(state.confined.target(path))
            state.confined.write(_copy_of(state, path), current, mode=0o600)
            state.keep_made(path, SETTINGS, was=True, mode=status.st_mode & 0o777, time=status.st_mtime_ns)
    elif current is not None and _digest(current) not in row.text:
        state.keep_made(path, SETTINGS, edited=True)
    # The text of before counts, too: a stop may come before the new one is written.
    first = (_digest(current),) if current is not None else ()
    state.keep_made(path, SETTINGS, text=(*(first if row.text is None else row.text)[-1:], digest_of(text)))


def as_written(state: CloneState, path: str) -> bool:
    """Whether a file that Plainfall wrote holds what it wrote, and nobody changed it at any time."""
    row, current = state.made.get(path, MadeKept()), _current(state, path)
    if current is None or row.edited:
        return False
    return _digest(current) in (row.text or ())


def put_back(state: CloneState, path: str) -> None:
    """Gives a file the text, mode and time that it had before Plainfall wrote to it."""
    row = state.made[path]
    handle = state.confined.open(_copy_of(state, path), os.O_RDONLY)
    with open(handle, "rb") as file:
        state.confined.write(path, file.read(), mode=row.mode)
    os.utime(state.confined.target(path), ns=(row.time, row.time))


def bring_settings_back(state: CloneState, *, preview: bool = False) -> list[str]:
    """Puts settings files that `clear` kept for the data back to their places, where nothing is there by now;
    returns that in words. The clone is locked by the caller, unless it is a preview."""
    back = []
    for path, row in state.made.items():
        kept = state.folder / KEPT_SETTINGS / state.name_of(path)
        if row.kind == SETTINGS and kept.is_file() and not os.path.lexists(state.clone / path):
            back.append(path)
            if not preview:
                state.confined.rename(kept, path)
    when = "comes back first, as it was" if preview else "is back as it was"
    return [f"{', '.join(back)}, kept for the data, {when}"] if back else []


def _digest(content: bytes) -> str:
    return digest_of(content.decode("utf-8", "surrogateescape"))


def _current(state: CloneState, path: str) -> bytes | None:
    try:
        handle = state.confined.open(path, os.O_RDONLY)
        with open(handle, "rb") as file:
            return file.read()
    except (OSError, PlainfallError):
        return None  # it is not there, or no file
