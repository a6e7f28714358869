"""What is recorded of a clone's private servers, and which ports they have."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from plainfall.errors import ServiceFailed
from plainfall.evidence import Evidence
from plainfall.kept_records import ServiceKept
from plainfall.onboarding.records.state import CloneState
from plainfall.server.ports import is_free, is_this_users
from plainfall.server.process import Running, belonging
from plainfall.services.needs import ServiceNeed
from plainfall.services.shape import kind_named
from plainfall.writing import digest_of

if TYPE_CHECKING:  # most runs start no server
    pass

__all__ = [
    "SERVICE_ROW",
    "accounts_digest",
    "mail_folders",
    "may_use",
    "name_for",
    "other_clone",
    "own_password",
    "port_of",
    "row_of",
    "running_services",
    "runs_now",
    "services_everywhere",
    "used_name",
]

SERVICE_ROW = "/service "  # what names of rows begin with
_TRIES = 100
_FIRST_OF_USERS = 1024  # the ports below are the system's


def port_of(state: CloneState, need: ServiceNeed, taken: Iterable[int], *, note: bool = True) -> int:
    """The port on which a need is to be met: the one that the clone names, if this clone's own server has it, it is
    free, or a server that lets us in has it without anybody's data; else another one that is free, noted as given
    unless ``note`` is off."""
    from plainfall.services.engine import engine_of

    engine = engine_of(need.kind)
    if engine is None or need.own:
        return need.port
    known = _known(state, need)
    if known is not None and runs_now(known):
        return known.port
    # A port of the system is not for a server of ours, even where this user could take it.
    wanted = need.port if need.port >= _FIRST_OF_USERS else kind_named(need.kind).port
    if is_free(wanted) and wanted not in taken:
        return wanted
    if not other_clone(state, need.port) and may_use(state, need):
        return need.port
    return state.register.port_for(state.clone, row_of(need.kind, need.port), wanted, [*taken], note=note)


def own_password(state: CloneState, need: ServiceNeed) -> str:
    """The password of the clone's account at a server of ours where its settings leave that open, so that no other
    user of the machine comes in: the same at each run of this folder. "" where the server is somebody else's,
    or of a kind without accounts."""
    from plainfall.services.engine import engine_of

    engine = engine_of(need.kind)
    if engine is None or not engine.keeps_rows or need.own:
        return ""
    known = _known(state, need)
    if not (known is not None and runs_now(known)) and not is_free(need.port) and may_use(state, need):
        return ""
    status = os.stat(state.clone)
    return state.seal.mark("service password", need.kind, str(state.clone), str(status.st_ino))


def row_of(kind: str, port: int) -> str:
    """The name of a private server's row in the register: no part has one like it."""
    return f"{SERVICE_ROW}{kind} {port}"


def other_clone(state: CloneState, port: int) -> str:
    """The clone whose private server has a port, "" if none has, or this one."""
    for row in state.register.every():
        if (
            row.part.startswith(SERVICE_ROW)
            and row.port == port
            and row.clone != str(state.clone)
            and row.pids
        ):
            return row.clone
    return ""


def may_use(state: CloneState, need: ServiceNeed) -> bool:
    """Whether a server that is there already may be used for a clone that only names it in a template."""
    from plainfall.services.engine import engine_of

    engine = engine_of(need.kind)
    if engine is None or not is_this_users(need.port):
        return False
    used = state.services.get(used_name(need), ServiceKept())
    answers = [engine.reach("127.0.0.1", need.port, account).state for account in need.accounts]
    return all(
        one in ("empty", "no database") or (one == "filled" and used.accounts == accounts_digest(need))
        for one in answers
    )


def used_name(need: ServiceNeed) -> str:
    return f"used {need.kind} {need.port}"


def accounts_digest(need: ServiceNeed) -> str:
    return digest_of(
        *(
            (one.user, hashlib.sha256(one.password.encode()).hexdigest(), one.database)
            for one in need.accounts
        )
    )


def _known(state: CloneState, need: ServiceNeed) -> ServiceKept | None:
    rows = [row for row in state.services.values() if row.kind == need.kind and not row.used]
    return next((row for row in rows if row.port == need.port), rows[0] if len(rows) == 1 else None)


def name_for(state: CloneState, need: ServiceNeed) -> tuple[str, ServiceKept | None]:
    """The name of the server that meets a need, and its record: the one on this port; else one of the kind that
    does not run; else a new name."""
    rows = {name: row for name, row in state.services.items() if row.kind == need.kind and not row.used}
    rows = {name: row for name, row in rows.items() if _is_its(state, row)}
    for name, row in rows.items():
        if row.port == need.port:
            return name, row
    for name, row in rows.items():
        if not runs_now(row):
            return name, row
    for number in range(1, _TRIES):
        name = need.kind if number == 1 else f"{need.kind}-{number}"
        if name not in rows and not os.path.lexists(state.folder / "services" / name / "data"):
            return name, None
    raise ServiceFailed(
        f"there are {_TRIES} data folders of {need.kind} in this clone",
        place=Evidence(str(state.folder / "services")),
        remedy="Take those away that nobody needs.",
    )


def _is_its(state: CloneState, row: ServiceKept) -> bool:
    """Whether the data folder is the one that was made for this clone: the same place, and the same folder. One
    whose making was cut off has no identity yet, and no data."""
    data = Path(row.data)
    try:
        status = os.lstat(data)
    except OSError:
        return True
    return row.identity == (status.st_dev, status.st_ino) or (
        row.identity is None and not any(data.iterdir())
    )


def runs_now(record: ServiceKept) -> bool:
    return bool(record.running.pid) and bool(belonging(Running.of_record(record.running)))


def mail_folders(state: CloneState) -> list[Path]:
    """Where the clone's mail stand-ins keep what they got."""
    return [Path(row.data) for row in state.services.values() if row.kind == "mail" and row.data]


def running_services(state: CloneState) -> dict[str, ServiceKept]:
    """The records of the private servers that run now, by name."""
    return {name: row for name, row in state.services.items() if runs_now(row)}


def services_everywhere(clones: Iterable[str], user_state: Path) -> list[tuple[str, str, ServiceKept]]:
    """Clone, name and record of each private server that runs now, of these clones."""
    results = []
    for clone in sorted(set(clones)):
        if Path(clone).is_dir():
            results += [
                (clone, name, row)
                for name, row in running_services(CloneState(Path(clone), user_state)).items()
            ]
    return results
