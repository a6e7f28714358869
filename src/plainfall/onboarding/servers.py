"""The recorded dev servers of a clone, and of every clone: stopped."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from plainfall.errors import NothingToOnboard
from plainfall.onboarding.register import Register
from plainfall.onboarding.stages.serving import running_of
from plainfall.onboarding.state import CloneState
from plainfall.server.ports import is_free
from plainfall.server.process import stop

__all__ = ["Stopped", "stop_everywhere", "stop_servers"]


@dataclass(frozen=True)
class Stopped:
    """A server that was ended: the ids of its processes (none if they were gone), whether its port is free
    now (another program may have taken it)."""

    part: str
    port: int
    ended: list[int]
    port_free: bool


def stop_servers(clone: Path, register: Register, part: str | None = None) -> list[Stopped]:
    """Ends every recorded server of a clone, or one part's. Raises ServerFailed if one cannot be ended,
    CloneBusy while a run holds the clone, NothingToOnboard if the folder is not there."""
    state = _state(clone, register)
    servers = {key: record for key, record in state.servers.items() if part is None or key == part}
    if not servers:
        return []
    stopped = []
    with state.held():
        for key, record in servers.items():
            ended = stop(running_of(record))
            state.keep_server(key, None)
            stopped.append(Stopped(key, record["port"], ended, is_free(record["port"])))
    return stopped


def stop_everywhere(register: Register) -> dict[str, list[Stopped]]:
    """Ends the servers of every clone in the register, by clone; also those whose clone is gone. Raises as
    ``stop_servers`` does."""
    found: dict[str, list[Stopped]] = {}
    for row in register.every():
        if row.running is None:
            continue
        clone = Path(row.clone)
        if clone.is_dir() and row.clone not in found:
            found[row.clone] = stop_servers(clone, register)
        if row.pids:
            # The clone is gone, or has lost its own record.
            ended = stop(row.running)
            found.setdefault(row.clone, []).append(Stopped(row.part, row.port, ended, is_free(row.port)))
        register.note(clone, row.part, None)
    return {clone: stopped for clone, stopped in found.items() if stopped}


def _state(clone: Path, register: Register | None = None) -> CloneState:
    if not clone.is_dir():
        raise NothingToOnboard(f"{clone} is not a folder", remedy="Name the folder of a clone.")
    return CloneState(clone, register)
