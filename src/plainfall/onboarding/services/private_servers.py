"""A clone's private servers (databases, caches): what is recorded of them, their ports, their start and end."""

from __future__ import annotations

import hashlib
import os
import re
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec import Struct
from msgspec.structs import replace

from plainfall.diagnosis.system_packages import install_words
from plainfall.errors import ServiceFailed
from plainfall.evidence import Evidence
from plainfall.kept_records import ProcessKept, ServiceKept
from plainfall.onboarding.records.state import FOLDER, CloneState
from plainfall.server.ports import holder_of, is_free, is_this_users
from plainfall.server.process import Running, belonging, marked, new_mark
from plainfall.services.needs import ServiceNeed
from plainfall.services.shape import kind_named
from plainfall.surroundings import Surroundings
from plainfall.writing import digest_of

if TYPE_CHECKING:  # most runs start no server
    from plainfall.services.engine import Program

__all__ = [
    "SERVICE_ROW",
    "Brought",
    "bring_up",
    "end_service",
    "foreseen_service",
    "mail_folders",
    "own_password",
    "port_of",
    "place_of",
    "running_services",
    "services_everywhere",
]

SERVICE_ROW = "/service "  # what names of rows begin with
_TRIES = 100
_FIRST_OF_USERS = 1024  # the ports below are the system's


class Brought(Struct, frozen=True):
    """What came of one need: ``state`` is "done", "kept", "used" (a server that was there), or "lacking" (no
    program of it is here); ``text`` says it to people; ``identity`` tells its data from that of any other server,
    "" for what keeps no rows."""

    need: ServiceNeed
    state: str
    text: str
    remarks: tuple[str, ...] = ()
    port: int = 0
    identity: str = ""
    name: str = ""


def port_of(state: CloneState, need: ServiceNeed, taken: Iterable[int], *, note: bool = True) -> int:
    """The port on which a need is to be met: the one that the clone names, if this clone's own server has it, it is
    free, or a server that lets us in has it without anybody's data; else another one that is free, noted as given
    unless ``note`` is off."""
    from plainfall.services.engine import engine_of

    engine = engine_of(need.kind)
    if engine is None or need.own:
        return need.port
    known = _known(state, need)
    if known is not None and _runs(known):
        return known.port
    # A port of the system is not for a server of ours, even where this user could take it.
    wanted = need.port if need.port >= _FIRST_OF_USERS else kind_named(need.kind).port
    if is_free(wanted) and wanted not in taken:
        return wanted
    if not _other_clone(state, need.port) and _may_use(state, need):
        return need.port
    return state.register.port_for(state.clone, _row_of(need.kind, need.port), wanted, [*taken], note=note)


def own_password(state: CloneState, need: ServiceNeed) -> str:
    """The password of the clone's account at a server of ours where its settings leave that open, so that no other
    user of the machine comes in: the same at each run of this folder. "" where the server is somebody else's,
    or of a kind without accounts."""
    from plainfall.services.engine import engine_of

    engine = engine_of(need.kind)
    if engine is None or not engine.keeps_rows or need.own:
        return ""
    known = _known(state, need)
    if not (known is not None and _runs(known)) and not is_free(need.port) and _may_use(state, need):
        return ""
    status = os.stat(state.clone)
    return state.seal.mark("service password", need.kind, str(state.clone), str(status.st_ino))


def _row_of(kind: str, port: int) -> str:
    """The name of a private server's row in the register: no part has one like it."""
    return f"{SERVICE_ROW}{kind} {port}"


def _other_clone(state: CloneState, port: int) -> str:
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


def _may_use(state: CloneState, need: ServiceNeed) -> bool:
    """Whether a server that is there already may be used for a clone that only names it in a template."""
    from plainfall.services.engine import engine_of

    engine = engine_of(need.kind)
    if engine is None or not is_this_users(need.port):
        return False
    used = state.services.get(_used_name(need), ServiceKept())
    answers = [engine.reach("127.0.0.1", need.port, account).state for account in need.accounts]
    return all(
        one in ("empty", "no database") or (one == "filled" and used.accounts == _digest(need))
        for one in answers
    )


def bring_up(
    state: CloneState,
    surroundings: Surroundings,
    need: ServiceNeed,
    fetch: Callable[[ServiceNeed], Program | None] | None = None,
) -> Brought:
    """Makes a server answer on the need's port and lets everybody in who must come in; ``fetch`` gets a program
    that this machine does not have (None: it may not be fetched). The clone is locked by the caller. Raises
    ServiceFailed, and what ``fetch`` raises."""
    from plainfall.services.engine import engine_of

    engine = engine_of(need.kind)
    if engine is None:
        title = kind_named(need.kind).title
        text = f"{title} is not started by Plainfall: start one on port {need.port}, or name yours"
        return Brought(need, "lacking", text)
    name, record = _name_for(state, need)
    digest = _digest(need)
    there = record is not None and Path(record.data).is_dir()
    if record is not None and there and _runs(record) and record.port == need.port:
        title = f"{record.title} on port {need.port}"
        if record.accounts == digest:
            return Brought(need, "kept", title, (), need.port, _identity(need, record), name)
        if engine.restarts_for_accounts:
            end_service(state, name)
        else:
            made = engine.admit(place_of(state, surroundings, name, record), need.port, need.accounts)
            state.keep_service(name, replace(record, accounts=digest))
            text = f"{title}: {', '.join(made) or 'accounts as the settings say'}"
            return Brought(need, "done", text, (), need.port, _identity(need, record), name)
    elif record is not None and record.running.pid:
        end_service(state, name)  # on another port now, or a run was cut off at its start
        record = state.services.get(name)
    if not is_free(need.port):
        return _foreign(state, need)
    programs = engine.programs(surroundings.search_path())
    if not programs and fetch is not None:
        program = fetch(need)
        programs = [program] if program is not None else []
    if not programs:
        how = install_words(engine.kind)
        size = kind_named(engine.kind).fetched
        fetched = f"; or let Plainfall fetch it for you ({size}): --fetch-services" if size else ""
        return Brought(need, "lacking", f"no {engine.title} is on this machine. {how}{fetched}")
    return _started(state, surroundings, need, name, record, programs)


def foreseen_service(state: CloneState, need: ServiceNeed) -> Brought:
    """What ``bring_up`` would come to, as things are: "done" for what it would start or change. Starts nothing."""
    from plainfall.services.engine import engine_of

    engine = engine_of(need.kind)
    if engine is None:
        return Brought(need, "lacking", f"{kind_named(need.kind).title} is not started by Plainfall")
    name, record = _name_for(state, need)
    there = record is not None and Path(record.data).is_dir()
    if record is not None and there and _runs(record) and record.port == need.port:
        title, identity = f"{record.title} on port {need.port}", _identity(need, record)
        if record.accounts == _digest(need):
            return Brought(need, "kept", title, (), need.port, identity, name)
        return Brought(need, "done", f"{title}: let in who must come in", (), need.port, identity, name)
    if not is_free(need.port):
        used = state.services.get(_used_name(need), ServiceKept())
        known = used.accounts == _digest(need)
        text = f"use the {engine.title} that answers on port {need.port}"
        return Brought(
            need, "used" if known else "done", text, (), need.port, _identity(need, used) if used.kind else ""
        )
    what = "with its data as it was" if record is not None and there else "new"
    identity = _identity(need, record) if record is not None and there else f"{need.kind} new"
    return Brought(
        need, "done", f"start {engine.title} on port {need.port}, {what}", (), need.port, identity, name
    )


def _started(
    state: CloneState,
    surroundings: Surroundings,
    need: ServiceNeed,
    name: str,
    record: ServiceKept | None,
    programs: Sequence[Any],
) -> Brought:
    from plainfall.services.engine import engine_of
    from plainfall.services.private import end_lost, launch, make_data, program_for

    engine = engine_of(need.kind)
    assert engine is not None  # the caller asked
    place = place_of(state, surroundings, name, record, leaves_root=engine.leaves_root)
    program = program_for(engine, programs, place.data, need.version)
    title = f"{engine.title} {program.version}"
    mark, log = new_mark(), state.log("", f"service-{name}")
    row = ServiceKept(
        kind=need.kind,
        title=title,
        port=need.port,
        data=str(place.data),
        sockets=str(place.sockets),
        made=record.made if record is not None else "",
        running=ProcessKept(mark=mark, log=str(log), port=need.port),
    )
    state.keep_service(name, row)
    end_lost(engine, place)
    fresh = make_data(engine, program, place, surroundings.cache)
    status = os.stat(place.data)
    # The system may give a new folder the number of the one before.
    row = replace(row, identity=(status.st_dev, status.st_ino), made=mark if fresh else row.made)
    state.keep_service(name, row)

    def keep(running: Running) -> None:
        state.keep_service(name, replace(row, running=running.kept()))
        state.register.note_started(state.clone, _row_of(need.kind, need.port), running.kept(), title)

    output = state.open_log("", f"service-{name}")
    running, made = launch(engine, program, place, need.port, need.accounts, log, output, mark, keep)
    row = replace(row, running=running.kept(), accounts=_digest(need))
    state.keep_service(name, row)
    from plainfall.processes import release

    release(running.pid, kept=True)
    remarks = []
    if need.version and program.major != need.version.split(".", 1)[0]:
        remarks.append(f"{need.place} asks for version {need.version}; {program.version} is what is here")
    what = ", ".join(made) or ("new" if fresh else "its data as it was")
    text = f"{title} on port {need.port}: {what}"
    return Brought(need, "done", text, tuple(remarks), need.port, _identity(need, row), name)


def _identity(need: ServiceNeed, record: ServiceKept) -> str:
    """Which making of a data folder a database server of ours has; of another one its port."""
    from plainfall.services.engine import engine_of

    engine = engine_of(need.kind)
    if engine is None or not engine.keeps_rows:
        return ""
    return f"{need.kind} {record.port if record.used else record.made}"


def _foreign(state: CloneState, need: ServiceNeed) -> Brought:
    """A server that somebody else started has the port. Raises ServiceFailed where it cannot be used, or must
    not."""
    from plainfall.services.engine import engine_of

    engine = engine_of(need.kind)
    assert engine is not None
    used, digest = state.services.get(_used_name(need), ServiceKept()), _digest(need)
    made = []
    if not need.own and not is_this_users(need.port):
        raise ServiceFailed(
            f"port {need.port} is taken by a process of another user of this machine, which is not trusted with "
            "this clone's data",
            place=need.place,
            remedy="If that server is meant, name it yourself (in the settings file, or with --set).",
        )
    for account in need.accounts:
        answer = engine.reach("127.0.0.1", need.port, account)
        if answer.state == "filled" and not need.own and used.accounts != digest:
            raise ServiceFailed(
                f"the {engine.title} on port {need.port} holds somebody's data in {account.database or 'it'} "
                f"({answer.detail}), and only {'the sources name' if need.fixed else 'a template names'} "
                "this address",
                place=need.place,
                remedy="If that is this clone's own database, name it yourself (in the settings file, or with "
                "--set); else stop that server, and a private one is started.",
            )
        if answer.state in ("other", "silent"):
            holder = holder_of(need.port)
            raise ServiceFailed(
                f"port {need.port} is taken by {holder or 'another program'}, which does not let this clone in",
                place=need.place,
                lines=tuple(answer.detail.splitlines()[:3]),
                remedy="Check user, password and port of this address; or stop that program, and a private server "
                "is started.",
            )
        if answer.state == "no database":
            engine.make_database("127.0.0.1", need.port, account)
            made.append(f"database {account.database}")
    row = ServiceKept(kind=need.kind, port=need.port, accounts=digest, used=True)
    state.keep_service(_used_name(need), row)
    text = f"{engine.title} that answers on port {need.port}" + (f": {', '.join(made)}" if made else "")
    other = _other_clone(state, need.port)
    remarks = (
        (f"it is the private one of {other}, and ends with that: the sources name its port",) if other else ()
    )
    return Brought(need, "done" if made else "used", text, remarks, need.port, _identity(need, row))


def _used_name(need: ServiceNeed) -> str:
    return f"used {need.kind} {need.port}"


def _digest(need: ServiceNeed) -> str:
    return digest_of(
        *(
            (one.user, hashlib.sha256(one.password.encode()).hexdigest(), one.database)
            for one in need.accounts
        )
    )


def _known(state: CloneState, need: ServiceNeed) -> ServiceKept | None:
    rows = [row for row in state.services.values() if row.kind == need.kind and not row.used]
    return next((row for row in rows if row.port == need.port), rows[0] if len(rows) == 1 else None)


def _name_for(state: CloneState, need: ServiceNeed) -> tuple[str, ServiceKept | None]:
    """The name of the server that meets a need, and its record: the one on this port; else one of the kind that
    does not run; else a new name."""
    rows = {name: row for name, row in state.services.items() if row.kind == need.kind and not row.used}
    rows = {name: row for name, row in rows.items() if _is_its(state, row)}
    for name, row in rows.items():
        if row.port == need.port:
            return name, row
    for name, row in rows.items():
        if not _runs(row):
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


def place_of(
    state: CloneState,
    surroundings: Surroundings,
    name: str,
    record: ServiceKept | None,
    *,
    leaves_root: bool = True,
) -> Any:
    """Where the server lives: below the clone's state folder; where that cannot be entered by the user that servers
    run as, in a folder elsewhere. Raises ServiceFailed, PathRefused."""
    from plainfall.services.engine import Owner, Place
    from plainfall.services.private import data_elsewhere, may_enter, socket_folder

    owner = Owner.needed() if leaves_root else None
    short = digest_of(str(state.confined.root), name)[:12]
    variables = {
        "PATH": "/usr/local/bin:/usr/bin:/bin:/usr/sbin:/sbin",
        "LC_ALL": "C.UTF-8",
        "HOME": "/nonexistent",
    }
    sockets = socket_folder(short, surroundings.variables, owner)
    if record is not None and Path(record.data).is_dir():
        return Place(Path(record.data), sockets, owner, variables)
    inside = state.confined.own_folder(f"{FOLDER}/services")
    inside = state.confined.own_folder(f"{FOLDER}/services/{name}")
    data = inside / "data"
    if not may_enter(data, owner) or os.stat(state.confined.root).st_uid != os.geteuid():
        data = data_elsewhere(f"{re.sub(r'[^A-Za-z0-9.-]+', '-', state.clone.name)[:40]}-{short}")
    return Place(data, sockets, owner, variables)


def _runs(record: ServiceKept) -> bool:
    return bool(record.running.pid) and bool(belonging(Running.of_record(record.running)))


def mail_folders(state: CloneState) -> list[Path]:
    """Where the clone's mail stand-ins keep what they got."""
    return [Path(row.data) for row in state.services.values() if row.kind == "mail" and row.data]


def running_services(state: CloneState) -> dict[str, ServiceKept]:
    """The records of the private servers that run now, by name."""
    return {name: row for name, row in state.services.items() if _runs(row)}


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


def end_service(state: CloneState, name: str) -> list[int]:
    """Ends a private server well; its data and its record stay. Returns the ids of its processes. Raises
    ServerFailed if one stays."""
    from plainfall.services.engine import engine_of
    from plainfall.services.private import drop_socket_folder, end

    record = state.services[name]
    engine = engine_of(record.kind)
    if record.used or engine is None:
        return []
    running = Running.of_record(record.running)
    if not running.pid:  # a run was cut off at its start
        for pid in marked(running.mark):
            running = Running(pid, 0.0, running.mark, "", running.log, running.port)
    ended = end(engine, running)
    drop_socket_folder(record.sockets)
    state.keep_service(name, replace(record, running=ProcessKept(log=running.log, port=running.port)))
    state.register.note_stopped(state.clone, _row_of(engine.kind, record.port))
    return ended
