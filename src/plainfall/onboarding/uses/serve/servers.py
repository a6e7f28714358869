"""Stopping the recorded dev servers of a clone, or of every clone, and commands that were cut off."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

from msgspec import Struct

from plainfall.errors import NothingToOnboard
from plainfall.onboarding.part.byproducts import note_span
from plainfall.onboarding.records.register import Register
from plainfall.onboarding.records.state import CloneState
from plainfall.onboarding.run.clone_root import CloneFolder
from plainfall.onboarding.services.private_servers import end_service
from plainfall.onboarding.services.service_records import SERVICE_ROW, running_services
from plainfall.onboarding.stages.commands import end_leftovers
from plainfall.onboarding.stages.second_processes import end_second_process
from plainfall.server.ports import is_free
from plainfall.server.process import Running, stop

__all__ = ["Stopped", "end_processes", "stop_everywhere", "stop_in", "stop_servers"]


class Stopped(Struct, frozen=True):
    """A server that was ended: the ids of its processes (none if they were gone), whether its port is free now
    (another program may have taken it); ``command`` is the line of a command that a run before did not see to its
    end, "" for a server. ``followed`` tells that nothing that it started can have been missed. ``process`` is the
    name of one that ran beside a server, "" for a server."""

    part: str
    port: int
    ended: list[int]
    port_free: bool
    command: str = ""
    followed: bool = True
    process: str = ""


def stop_servers(place: CloneFolder, user_state: Path, part: str | None = None) -> list[Stopped]:
    """Ends every recorded server of a clone with the processes beside it (of the parts in the folder that was
    named), or one part's, and the clone's private databases and caches where nothing else of it runs; without
    ``part`` also what commands that were cut off left running. Raises ServerFailed if one cannot be ended,
    CloneBusy while a run holds the clone, NothingToOnboard if the folder does not exist."""
    clone = place.clone
    if not clone.is_dir():
        raise NothingToOnboard(f"{clone} is not a folder", remedy="Name the folder of a clone.")
    state = CloneState(clone, user_state)
    servers = {
        key: record
        for key, record in state.servers.items()
        if (place.holds(key) if part is None else key == part)
    }
    others = [
        (key, name)
        for key, name in state.second_processes
        if (place.holds(key) if part is None else key == part)
    ]
    left = {*state.servers, *(key for key, _ in state.second_processes)} - {
        *servers,
        *(key for key, _ in others),
    }
    private = {} if left else running_services(state)
    if not servers and not others and not private and (part is not None or not state.commands):
        return []
    stopped = []
    with state.locked():
        for key, record in servers.items():
            running = Running.of_record(record)
            ended = stop(running)
            if ended:
                note_span(state, running.started)
            state.keep_server(key, None)
            followed = bool(record.group)
            stopped.append(Stopped(key, record.port, ended, is_free(record.port), followed=followed))
        for key, name in others:
            ended = end_second_process(state, key, name)
            if ended:
                stopped.append(Stopped(key, 0, ended, True, process=name))
        for name, service in private.items():
            ended = end_service(state, name)
            free = is_free(service.port)
            stopped.append(Stopped("", service.port, ended, free, process=service.title))
        for mark, (line, group) in state.commands.items() if part is None else ():
            pids = end_leftovers(mark, group)
            state.keep_command(mark, None)
            if pids:
                stopped.append(Stopped("", 0, pids, True, line))
    return stopped


def stop_in(named: Path, place: CloneFolder, user_state: Path, part: str | None = None) -> list[Stopped]:
    """``stop_servers`` of a folder's clone, and of the servers that another clone of this user runs for parts
    in that very folder: an example may have been onboarded by itself, and as a part of the clone above it.
    Raises as ``stop_servers`` does."""
    stopped = stop_servers(place, user_state, part)
    folder = Path(os.path.realpath(named / (part or "")))
    for row in Register(user_state).every():
        clone, inner = Path(row.clone), row.part.partition("/(")[0]
        if clone == place.clone or row.part.startswith(SERVICE_ROW) or not row.pids or not clone.is_dir():
            continue
        if Path(os.path.realpath(clone / inner)).is_relative_to(folder):
            stopped += stop_servers(CloneFolder(clone), user_state, row.part)
    return stopped


def end_processes(place: CloneFolder, user_state: Path, which: Sequence[tuple[str, str]]) -> list[Stopped]:
    """Ends processes beside servers, by part and name, as far as they are recorded. Raises as ``stop_servers``
    does."""
    if not which:
        return []
    state = CloneState(place.clone, user_state)
    stopped = []
    with state.locked():
        for part, name in which:
            if (part, name) in state.second_processes:
                stopped.append(Stopped(part, 0, end_second_process(state, part, name), True, process=name))
    return stopped


def _has_more(state: CloneState) -> bool:
    return bool(state.second_processes or running_services(state))


def stop_everywhere(user_state: Path) -> dict[str, list[Stopped]]:
    """Ends the servers of every clone in the register with the processes beside them, by clone; also those whose
    clone is gone. Raises as
    ``stop_servers`` does."""
    results: dict[str, list[Stopped]] = {}
    register = Register(user_state)
    for row in register.every():
        clone = Path(row.clone)
        there = clone.is_dir() and row.clone not in results
        if there and (row.running is not None or _has_more(CloneState(clone, user_state))):
            results[row.clone] = stop_servers(CloneFolder(clone), user_state)
        if row.running is None:
            continue
        if row.pids:
            # The clone is gone, or has lost its own record.
            ended = stop(row.running)
            results.setdefault(row.clone, []).append(Stopped(row.part, row.port, ended, is_free(row.port)))
        register.note_stopped(clone, row.part)
    return {clone: stopped for clone, stopped in results.items() if stopped}
