"""A clone's private servers (databases, caches): their start and end."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec import Struct
from msgspec.structs import replace

from plainfall.diagnosis.system_packages import install_words
from plainfall.errors import ServiceFailed
from plainfall.kept_records import ProcessKept, ServiceKept
from plainfall.onboarding.records.state import FOLDER, CloneState
from plainfall.server.ports import holder_of, is_free, is_this_users
from plainfall.server.process import Running, marked, new_mark
from plainfall.services.needs import ServiceNeed
from plainfall.services.shape import kind_named
from plainfall.surroundings import Surroundings
from plainfall.writing import digest_of

if TYPE_CHECKING:  # most runs start no server
    from plainfall.services.engine import Program

from plainfall.onboarding.services.service_records import (
    accounts_digest,
    name_for,
    other_clone,
    row_of,
    runs_now,
    used_name,
)

__all__ = ["Brought", "bring_up", "end_service", "foreseen_service", "place_of"]


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
    name, record = name_for(state, need)
    digest = accounts_digest(need)
    there = record is not None and Path(record.data).is_dir()
    if record is not None and there and runs_now(record) and record.port == need.port:
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
    name, record = name_for(state, need)
    there = record is not None and Path(record.data).is_dir()
    if record is not None and there and runs_now(record) and record.port == need.port:
        title, identity = f"{record.title} on port {need.port}", _identity(need, record)
        if record.accounts == accounts_digest(need):
            return Brought(need, "kept", title, (), need.port, identity, name)
        return Brought(need, "done", f"{title}: let in who must come in", (), need.port, identity, name)
    if not is_free(need.port):
        used = state.services.get(used_name(need), ServiceKept())
        known = used.accounts == accounts_digest(need)
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
        state.register.note_started(state.clone, row_of(need.kind, need.port), running.kept(), title)

    output = state.open_log("", f"service-{name}")
    running, made = launch(engine, program, place, need.port, need.accounts, log, output, mark, keep)
    row = replace(row, running=running.kept(), accounts=accounts_digest(need))
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
    used, digest = state.services.get(used_name(need), ServiceKept()), accounts_digest(need)
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
    state.keep_service(used_name(need), row)
    text = f"{engine.title} that answers on port {need.port}" + (f": {', '.join(made)}" if made else "")
    other = other_clone(state, need.port)
    remarks = (
        (f"it is the private one of {other}, and ends with that: the sources name its port",) if other else ()
    )
    return Brought(need, "done" if made else "used", text, remarks, need.port, _identity(need, row))


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
    state.register.note_stopped(state.clone, row_of(engine.kind, record.port))
    return ended
