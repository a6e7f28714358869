"""Taking away what Plainfall made in a clone, and nothing else.

What the person changed stays, and is named; databases, uploads and the data of private servers go only if that was
asked for. A stop at any point is harmless: each thing goes by one rename into the state folder, which goes last.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from pathlib import Path

from msgspec import Struct, field
from msgspec.structs import replace

from plainfall.confinement import Confined
from plainfall.errors import CloneBusy, ForeignState, PathRefused
from plainfall.evidence import Evidence
from plainfall.onboarding.records.made_here import GO, PUT_BACK, STAY, Thing, private_data, things, weigh
from plainfall.onboarding.records.restoring import KEPT_SETTINGS, SETTINGS, put_back
from plainfall.onboarding.records.state import FOLDER, CloneState
from plainfall.onboarding.run.clone_root import CloneFolder
from plainfall.onboarding.services.service_records import running_services
from plainfall.onboarding.uses.serve.servers import Stopped, stop_servers
from plainfall.repository import include_again
from plainfall.server.process import Running, belonging

__all__ = ["KEPT", "Cleared", "clear"]

KEPT = "plainfall-kept"  # where changed files of packages are moved to
_GOING = f"{FOLDER}/clearing"
_SETTINGS = f"{FOLDER}/{KEPT_SETTINGS}"
# Of the state folder this stays with the data.
_WITH_DATA = ("lock", "state.json", "before.json", "before", "services", "guard", "accounts.json", "settings")
_LAST = ("state.json", "before.json", "lock")


class Cleared(Struct):
    """What was taken away, put back and left, and the servers that were ended. ``whole`` tells that nothing of
    Plainfall's is left in the clone; ``running`` counts the servers that a preview found."""

    clone: Path
    things: list[Thing] = field(default_factory=list)
    stopped: list[Stopped] = field(default_factory=list)
    whole: bool = False
    running: int = 0
    aside: list[str] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)


def clear(
    place: CloneFolder,
    user_state: Path,
    *,
    data: bool,
    preview: bool,
    tell: Callable[[str], None] = lambda text: None,
) -> Cleared:
    """Takes away what Plainfall made in the clone; with ``preview`` only lists it. ``tell`` hears what is at work.
    Raises CloneBusy, ForeignState for a state folder that is somebody else's, ServerFailed for a server that does
    not end, and OSError of the disk."""
    state = CloneState(place.clone, user_state)
    if not os.path.lexists(state.folder):
        return Cleared(place.clone, whole=True)
    if not state.is_known():
        raise ForeignState(
            "it was not written by your Plainfall for this folder, and nothing in it tells what was made",
            place=Evidence(str(state.folder)),
            remedy="Look at what it is. If it came with the clone or a copy of it, take it away yourself.",
        )
    whole = CloneFolder(place.clone)
    if preview:
        with state.locked():
            done = Cleared(place.clone, _all(state, data=data), running=_running(state))
            done.remarks += _used(state)
        return done
    tell("ending its servers")
    stopped = stop_servers(whole, user_state)
    state = CloneState(place.clone, user_state)
    with state.locked():
        if _running(state):
            raise CloneBusy(
                "a server of this clone was started meanwhile",
                place=Evidence(str(state.folder)),
                remedy="End it (plainfall stop), and run the same command again.",
            )
        state.confined.remove(_GOING)  # of a clearing that was cut off
        done = Cleared(place.clone, _all(state, data=data), stopped, remarks=_used(state))
        _Clearing(state, done, data, tell).carry_out()
    return done


def _running(state: CloneState) -> int:
    rows = [*state.servers.values(), *state.second_processes.values()]
    live = [row for row in rows if row.pid and belonging(Running.of_record(row))]
    return len(live) + len(running_services(state))


def _used(state: CloneState) -> list[str]:
    return [
        f"the {row.kind} on port {row.port} was used as it is: what the project's commands made there stays"
        for row in state.services.values()
        if row.used
    ]


def _all(state: CloneState, *, data: bool) -> list[Thing]:
    """The things in the clone, the private data, and the state folder itself, last."""
    found = things(state, data=data)
    private = private_data(state)
    if data:
        private = [replace(one, fate=GO) for one in private]
    else:
        private = [replace(one, why=f"{one.why}; --data takes it away") for one in private]
    weight = weigh(state.folder)
    own = [weigh(state.clone / one.path) for one in private if one.path.startswith(FOLDER)]
    size = [weight[index] - sum(one[index] for one in own) for index in (0, 1)]
    keeps = any(one.fate == STAY and _is_data(one) for one in (*found, *private))
    why = "its records of the data stay with it" if keeps else ""
    return [*found, *private, Thing(f"{FOLDER}/", "records", GO, why, size[0], size[1])]


def _is_data(thing: Thing) -> bool:
    return thing.kind in ("database", "uploads", "private data")


class _Clearing:
    def __init__(self, state: CloneState, done: Cleared, data: bool, tell: Callable[[str], None]) -> None:
        self._state = state
        self._done = done
        self._data = data
        self._tell = tell
        self._number = 0

    def carry_out(self) -> None:
        keeps = any(one.fate == STAY and _is_data(one) for one in self._done.things)
        later: list[str] = []
        for one in self._done.things:
            if one.fate == PUT_BACK:
                put_back(self._state, one.path)
            elif one.fate != GO or one.kind == "records":
                continue
            elif one.kind == "folder" and not one.size:
                later.append(one.path)
            elif one.kind == "private data":
                self._private(one)
            elif one.kind == SETTINGS and keeps:
                # A generated key may be what the data was written with.
                kept = f"{_SETTINGS}/{self._state.name_of(one.path)}"
                self._state.confined.rename(one.path, kept)
            else:
                self._aside(one.kept)
                self._away(one.path)
        for path in sorted(later, key=len, reverse=True):
            self._state.confined.remove_empty(
                path.rstrip("/")
            )  # something may have come into it: it stays then
        self._forget_ports()
        self._records(keeps)
        self._done.whole = not keeps

    def _away(self, path: str) -> None:
        """By one rename, so that nothing half taken away is left under its name."""
        self._tell(f"taking away {path}")
        self._number += 1
        going = f"{_GOING}/{self._number}"
        try:
            self._state.confined.rename(path.rstrip("/"), going)
        except FileNotFoundError:
            return  # it went meanwhile
        except PathRefused as error:  # a folder above it is a link by now
            self._done.remarks.append(f"{path} stays: {error.cause}")
            return
        self._state.confined.remove(going)

    def _aside(self, paths: Sequence[str]) -> None:
        for path in paths:
            target, number = f"{KEPT}/{path}", 2
            while os.path.lexists(self._state.clone / target):
                target, number = f"{KEPT}-{number}/{path}", number + 1
            self._state.confined.rename(path, target)
            self._done.aside.append(target)

    def _private(self, one: Thing) -> None:
        if not one.path.startswith("/"):
            self._away(one.path)
            return
        # Elsewhere: the folder that the record names, if it is still the one that was made.
        data = Path(one.path)
        row = next(row for row in self._state.services.values() if row.data == one.path)
        status = os.lstat(data)
        if row.identity == (status.st_dev, status.st_ino):
            try:
                Confined(data.parent, "that folder").remove(data.name)
            except PathRefused:
                return
            Confined(data.parent.parent, "that folder").remove_empty(data.parent.name)

    def _forget_ports(self) -> None:
        self._state.register.forget(self._state.clone)

    def _records(self, keeps: bool) -> None:
        """The state folder: what the data needs stays; else all of it goes, the records last."""
        names = sorted(os.listdir(self._state.folder))
        stays = _WITH_DATA if keeps else _LAST
        for name in names:
            if name not in stays:
                self._state.confined.remove(f"{FOLDER}/{name}")
        if keeps:
            return
        include_again(self._state.clone)
        for name in _LAST:
            self._state.confined.remove(f"{FOLDER}/{name}")
        self._state.confined.remove_empty(FOLDER)  # another run may have just begun
