"""Starting one server with one command, and waiting for a real answer."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec.structs import replace

from plainfall.clone.commands import GIVEN_FOLDER, Command
from plainfall.ecosystems.frameworks import every_traits
from plainfall.ecosystems.shape import Debugging, DebugWish
from plainfall.errors import ServerFailed
from plainfall.kept_records import ProcessKept, ServerKept, StartTime
from plainfall.onboarding.part.results import ServerResult
from plainfall.onboarding.part.steps import State, StepResult
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.stages.commands import ENTERS, check_command, may_press_enter
from plainfall.onboarding.stages.start_failures import ServerAsks, start_failure
from plainfall.processes import release
from plainfall.server.control_group import make_group
from plainfall.server.ports import free_port, holder_of, listening_ports, with_port
from plainfall.server.process import Running, belonging, marked, new_mark, start, stop, with_others
from plainfall.survey.ports import PORT_KEYS, USUAL
from plainfall.writing import digest_of

if TYPE_CHECKING:  # asking over HTTP takes long to import, and most runs have a server that is kept
    from plainfall.server.readiness import Ready

__all__ = ["running_of", "start_server", "stop_server"]

_DEBUG_PORT = 9229  # the first that is tried; where it is taken, the next


def start_server(work: Work, command: Command) -> StepResult:
    """Starts the part's server with a command, on a port of its own, and waits for its first answer; one that runs
    and is still right is kept. Raises ServerFailed with the lines of the log that matter."""
    fingerprint = digest_of(
        command.line,
        work.fingerprints.get("runtime"),
        work.fingerprints.get("dependencies"),
        work.fingerprints.get("settings"),
        work.choices.server.port,
        work.choices.server.debug,
        *work.decisions_of_commands(),
    )
    before = work.state.servers.get(work.part.key)
    if before:
        # One whose page was not good may have other code by now.
        was_good = before.probe is None or not before.probe.get("problem")
        if was_good and before.fingerprint == fingerprint and before.url and _runs(before):
            why = f"process {before.pid} runs and holds port {before.port}"
            return StepResult(
                State.KEPT,
                f"{command.line}: {before.url}",
                why,
                (command.evidence,),
                (),
                _detail(before),
                hands_on=ServerResult(before),
            )
        if not work.preview:
            stop_server(work, before)
    settling = work.settled_by()
    wanted = settling.wanted[work.part.key]
    if work.preview:
        return _foreseen(work, command, before, free_port(settling.ports[work.part.key], work.avoided))
    port, remarks, notes = _port_to_take(work, before)
    debugging = _debugging(work) if work.choices.server.debug else None
    try:
        record, ready = _start(work, command, port, fingerprint, wanted.port, debugging)
    except ServerAsks as error:
        if not may_press_enter(work, error.question):
            raise
        record, ready = _start(work, command, port, fingerprint, wanted.port, debugging, ENTERS)
        remarks.append(f"it asked, and Enter was pressed for its default: {error.question}")
    if ready.port != port:
        remarks.append(f"it was given port {port} and listens on {ready.port}")
    if ready.beyond:
        remarks.append(f"it listens beyond this machine, on {ready.beyond}: others can reach it")
    if ready.scheme == "https":
        remarks.append("it speaks https only; self-signed certificate, not verified")
    return StepResult(
        State.DONE,
        f"{command.line}: {record.url}",
        f"{command.reason}; first answer after {ready.seconds:.2f} s",
        (command.evidence,),
        tuple(remarks),
        _detail(record),
        tuple(notes),
        ServerResult(record),
    )


def _port_to_take(work: Work, before: ServerKept | None) -> tuple[int, list[str], list[str]]:
    """The port that a start gets, with remarks and notes on why it is that one. Raises ServerFailed where the
    person asked for one that is taken."""
    settling = work.settled_by()
    wanted = settling.wanted[work.part.key]
    remarks: list[str] = []
    notes: list[str] = []
    left = None if before else work.state.register.row_of(work.clone, work.part.key)
    if left is not None and left.running is not None and left.pids:
        ended = stop(left.running)
        remarks.append(f"ended what a clone that was here before left running ({', '.join(map(str, ended))})")
    port = free_port(settling.ports[work.part.key], work.avoided)
    if port != wanted.port:
        holder = _holder(work, wanted.port)
        taken = f"is taken by {holder}" if holder else "is kept for another server"
        if work.choices.server.port is not None and not work.choices.mends:
            raise ServerFailed(
                f"port {wanted.port}, which you asked for, {taken}",
                remedy="Name another port, or let --mend take the next free one.",
            )
        if not holder and not _is_anothers(work, wanted.port):
            notes.append(f"port {port}, which it had before, stays its own; {wanted.port} is free by now")
        else:
            remarks.append(f"port {wanted.port} ({wanted.source}) {taken}; {port} is used")
    elif work.choices.server.port is None and wanted.source != USUAL:
        notes.append(f"port {port} from {wanted.source}")
    for other, place in work.after.items():
        notes.append(f"started after {other or 'the part at the top'}, whose address it needs ({place})")
    return port, remarks, notes


def _foreseen(work: Work, command: Command, before: ServerKept | None, port: int) -> StepResult:
    """What starting would be, in a preview; the port of a server that is ended before stays."""
    runs = before is not None and _runs(before)
    port = before.port if before is not None and runs else port
    title = f"{'start anew' if runs else 'start'} {command.line} on port {port}"
    why = "settings, packages or the command changed since it started" if runs else command.reason
    return StepResult(State.TO_DO, title, why, (command.evidence,))


def _is_anothers(work: Work, port: int) -> bool:
    """Whether the register keeps a port for another part or clone."""
    own = (str(work.clone), work.part.key)
    return any(row.port == port and (row.clone, row.part) != own for row in work.state.register.every())


def _debugging(work: Work) -> Debugging:
    """The part's debugger, on a free port of its own."""
    port = free_port(_DEBUG_PORT, {*work.settled_by().ports.values(), *work.avoided})
    state = work.state.folder / "tools" / work.state.name_of(work.part.key)
    wish = DebugWish(
        work.clone, work.folder, work.chosen(), port, work.surroundings, state, work.progress, work.access()
    )
    return work.environment.debugging(wish)


def _holder(work: Work, port: int) -> str:
    """Who holds a port, in words: a clone of the register, or the process; "" for nobody."""
    holder = holder_of(port)
    if holder is None:
        return ""
    for row in work.state.register.every():
        if holder.pid is not None and holder.pid in row.pids:
            return f"the dev server of {row.clone}{f', part {row.part}' if row.part else ''}"
    if holder.folder and Path(holder.folder).is_relative_to(work.clone):
        return f"{holder}, a left-over in this very clone; end it with: kill {holder.pid}"
    return str(holder)


def _port_variables(key: str | None) -> list[str]:
    """Variables that carry the port: the usual one, those of frameworks, the part's own."""
    ours = [name for traits in every_traits() for name in traits.port_variables]
    return ["PORT", *ours, *([key] if key else [])]


def _start(
    work: Work,
    command: Command,
    port: int,
    fingerprint: str,
    wanted: int,
    debugging: Debugging | None,
    answers: bytes = b"",
) -> tuple[ServerKept, Ready]:
    line, _ = with_port(command.line, port)
    key = _port_key(work)
    work.prepare()
    check_command(work, line, command.evidence)
    if GIVEN_FOLDER in line:
        work.state.confined.own_folder(GIVEN_FOLDER)
    variables = {**work.variables(), **dict.fromkeys(_port_variables(key), str(port))}
    if debugging is not None:
        variables |= _variables_of(debugging, variables)
    log = work.state.log(work.part.key, "server")
    mark = new_mark()
    group = make_group(mark)
    attach = dict(debugging.attach) if debugging is not None else None
    record = ServerKept(
        mark=mark, command=line, log=str(log), port=port, wanted=wanted, group=group, attach=attach
    )
    # On disk before the start, so that a run after a kill finds the processes by their mark.
    work.state.keep_server(work.part.key, record)
    work.making("server", log, exclude=False)
    output = work.state.open_log(work.part.key, "server")
    running, process = start(line, work.folder, variables, log, port, mark, output, group, answers)
    record = running.kept_in(replace(record, fingerprint=fingerprint))
    work.state.keep_server(work.part.key, record)
    from plainfall.server.readiness import wait_until_ready

    try:
        before = work.state.read(work.part.key, StartTime).seconds
        unit = f"s waited; it took {before:.0f} s the last time" if before >= 2 else "s waited"
        ready = wait_until_ready(
            running,
            process,
            max(work.choices.server.wait, 3 * before),
            lambda waited: work.progress(int(waited), 0, unit),
            elsewhere=0.5 if debugging is None else 20.0,
        )
        if ready.state != "answers":
            raise start_failure(work, command, running, ready)
        record = with_others(running).kept_in(record)
        release(process.pid, kept=True)  # it is meant to stay when this process ends
    except BaseException:
        stop(running, process)
        work.state.keep_server(work.part.key, None)
        raise
    host = (
        "localhost" if ready.host == "127.0.0.1" else f"[{ready.host}]" if ":" in ready.host else ready.host
    )
    record = replace(record, port=ready.port, url=f"{ready.scheme}://{host}:{ready.port}/")
    work.state.keep_server(work.part.key, record)
    work.state.keep(work.part.key, StartTime(seconds=round(ready.seconds, 2)))
    return record, ready


def _variables_of(debugging: Debugging, own: Mapping[str, str]) -> dict[str, str]:
    """The variables that put a server under its debugger; some go before the part's own values."""
    joined = {
        name: separator.join(filter(None, (debugging.variables[name], own.get(name, ""))))
        for name, separator in debugging.joined.items()
    }
    return {**debugging.variables, **joined}


def _port_key(work: Work) -> str | None:
    """The setting that holds the server's port, if one does."""
    for key in PORT_KEYS:
        if work.settings.get(key, "").isdigit():
            return key
    return None


def running_of(record: ProcessKept) -> Running:
    """The record of a server as a value."""
    return Running.of_record(record)


def _runs(record: ServerKept) -> bool:
    """Whether the server's processes live and hold its port."""
    pids = belonging(running_of(record))
    return bool(pids) and record.port in listening_ports(pids)


def _detail(record: ServerKept) -> dict[str, Any]:
    return {name: getattr(record, name) for name in ("command", "url", "port", "pid", "log")}


def stop_server(work: Work, record: ServerKept) -> list[int]:
    """Ends a recorded server and drops the record; returns the ids of the ended processes."""
    ended = stop(running_of(record)) if record.pid or marked(record.mark, record.group) else []
    work.state.keep_server(work.part.key, None)
    return ended
