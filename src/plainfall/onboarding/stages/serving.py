"""Server and probe: start, wait for a real answer, look at the page."""

from __future__ import annotations

import re
import time
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from plainfall.clone.commands import GIVEN_FOLDER, Command
from plainfall.diagnosis.reading import lines_that_matter
from plainfall.ecosystems.frameworks import every_traits
from plainfall.ecosystems.shape import Debugging, DebugWish
from plainfall.errors import CommandFailed, ServerFailed
from plainfall.onboarding.commands import check_command
from plainfall.onboarding.explaining import diagnose_for, mend_words
from plainfall.onboarding.first_time import files_in, first_step
from plainfall.onboarding.stages.programs import run_program
from plainfall.onboarding.stages.start_commands import TRIES, in_turn, keep_answering, with_its_word
from plainfall.onboarding.steps import State, StepResult
from plainfall.onboarding.work import Work
from plainfall.processes import release
from plainfall.server.control_group import make_group
from plainfall.server.logs import end_of_log
from plainfall.server.ports import free_port, holder_of, listening_ports, with_port
from plainfall.server.process import Running, belonging, marked, new_mark, start, stop, with_others
from plainfall.survey.ports import PORT_KEYS, USUAL
from plainfall.writing import digest_of

if TYPE_CHECKING:  # asking over HTTP takes long to import, and most runs have a server that is kept
    from plainfall.server.probe import Probe
    from plainfall.server.readiness import Ready

__all__ = ["probe", "running_of", "server", "stop_server"]

_DEBUG_PORT = 9229  # the first that is tried; where it is taken, the next
# Reasons for which another start command may do: none that is known, and those that are about the command itself.
_ANOTHER_MAY_DO = ("", "command-missing", "name-missing")
# What a program says that wants to be told what to do.
_USAGE = re.compile(
    r"\busage\b|arguments? (is|are) required|missing (argument|command|option)", re.IGNORECASE
)
# Statuses by which a page of a server that has only an interface says that there is nothing to see.
_OF_INTERFACE = (400, 401, 403, 404, 405, 406, 422, 426)
# A server that refuses its own address, or whose code failed, is not one that wants values.
_REFUSED = re.compile(r"DisallowedHost|invalid host|Traceback|\bat .{1,300}:\d+:\d+|exception", re.IGNORECASE)
_ANSWERS = {
    401: "it asks for a login",
    405: "it wants another method than GET: it is an interface, not a page",
    422: "it wants values with the request: it is an interface, not a page",
    426: "it wants another protocol: it is no page",
}


class CommandEnded(ServerFailed):
    """A start command that ended at once. ``another_may_do`` tells that no reason is known for which every
    other command would fail, too."""

    another_may_do = False


def server(work: Work) -> StepResult:
    """Starts the part's server and waits for its first answer; one that runs and is still right is kept.

    Where a start command ends at once for a reason that is not known, the next candidate is tried, three at the
    most; a command that a person chose is the only one. Raises ServerFailed with the lines of the log that matter.
    """
    candidates = in_turn(work)
    if not _may_serve(work):
        try:
            result = run_program(work, candidates[0])
        except CommandFailed as error:
            if not candidates[0].may_fail or not any(_USAGE.search(line) for line in error.lines):
                raise
            return _no_server([(candidates[0].line, error.cause)])
        if result is not None:
            return result
    failed: list[tuple[Command, CommandEnded | CommandFailed]] = []
    prepared: list[str] = []
    while candidates:
        command = candidates.pop(0)
        files = files_in(work.folder)
        try:
            result = _serve(work, command)
        except (CommandEnded, CommandFailed) as error:
            again = _after_first_time(work, command, error, files) if not prepared else ""
            if not again and isinstance(error, CommandEnded) and not error.another_may_do:
                raise
            failed.append((command, error))
            if again:
                prepared.append(again)
                candidates = [command, *candidates]
            else:
                candidates = [*with_its_word(work, command, "\n".join(error.lines)), *candidates]
            candidates = candidates[: TRIES + len(prepared) - len(failed)]
            continue
        if failed:
            keep_answering(work, command)
            tried = [f"tried first: {one.line}: {error.cause}" for one, error in failed]
            result = replace(result, remarks=(*prepared, *tried, *result.remarks))
        return result
    if all(one.may_fail and isinstance(error, CommandEnded) for one, error in failed):
        return _no_server([(one.line, error.cause) for one, error in failed])
    first = failed[0][1]
    others = [f"also tried: {one.line}: {error.cause}" for one, error in failed[1:]]
    first.lines = (*first.lines, *others)
    raise first


def _may_serve(work: Work) -> bool:
    """Whether anything tells that what is started is a server; the person's own port does, too."""
    recognising, listed = work.language.recognising, work.part.dependencies
    if work.part.frameworks or work.wishes.port is not None or work.wishes.debug or recognising is None:
        return True
    return recognising.may_serve(work.tree, work.part.path, listed.names if listed else ())


def _no_server(tried: list[tuple[str, str]]) -> StepResult:
    """The result where nothing says how a project is started, and its own programs do not serve by themselves."""
    return StepResult(
        State.LEFT_OUT,
        "no server was started",
        "nothing says how one is started, and its own programs end at once: it may be a library or a tool",
        (),
        (
            *(f"tried: {line}: {cause}" for line, cause in tried),
            "name its start command, if it has one: plainfall serve --command COMMAND",
        ),
    )


def _after_first_time(
    work: Work, command: Command, error: CommandEnded | CommandFailed, files: frozenset[str]
) -> str:
    """What was done, or happened, once before the same command is worth another start, in words; "" for nothing."""
    if isinstance(error, CommandFailed):
        return ""
    written = sorted(files_in(work.folder) - files)
    if written:
        return f"its first start wrote {', '.join(written[:3])} and ended"
    return first_step(work, command, error.lines, error.log)


def _serve(work: Work, command: Command) -> StepResult:
    fingerprint = digest_of(
        command.line,
        work.fingerprints.get("runtime"),
        work.fingerprints.get("dependencies"),
        work.fingerprints.get("settings"),
        work.wishes.port,
        work.wishes.debug,
    )
    before = work.state.servers.get(work.part.key)
    if before:
        if before.get("fingerprint") == fingerprint and "url" in before and _runs(before):
            work.server = before
            why = f"process {before['pid']} runs and holds port {before['port']}"
            return StepResult(
                State.KEPT, f"{command.line}: {before['url']}", why, (command.evidence,), (), _detail(before)
            )
        stop_server(work, before)
    settling = work.settled_by()
    wanted = settling.wanted[work.part.key]
    port = free_port(settling.ports[work.part.key], work.avoided)
    remarks = []
    if port != wanted.port:
        holder = _holder(work, wanted.port)
        taken = f"is taken by {holder}" if holder else "is kept for another server"
        if work.wishes.port is not None and not work.wishes.mend:
            raise ServerFailed(
                f"port {wanted.port}, which you asked for, {taken}",
                remedy="Name another port, or let --mend take the next free one.",
            )
        remarks.append(f"port {wanted.port} ({wanted.source}) {taken}; {port} is used")
    elif work.wishes.port is None and wanted.source != USUAL:
        remarks.append(f"port {port} from {wanted.source}")
    for other, place in work.after.items():
        remarks.append(f"started after {other or 'the part at the top'}, whose address it needs ({place})")
    debugging = _debugging(work) if work.wishes.debug else None
    record, ready = _start(work, command, port, fingerprint, wanted.port, debugging)
    if ready.port != port:
        remarks.append(f"it was given port {port} and listens on {ready.port}")
    if ready.beyond:
        remarks.append(f"it listens beyond this machine, on {ready.beyond}: others can reach it")
    if ready.scheme == "https":
        remarks.append("it speaks https only; self-signed certificate, not verified")
    work.server = record
    return StepResult(
        State.DONE,
        f"{command.line}: {record['url']}",
        f"{command.reason}; first answer after {ready.seconds:.2f} s",
        (command.evidence,),
        tuple(remarks),
        _detail(record),
    )


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
) -> tuple[dict[str, Any], Ready]:
    line, _ = with_port(command.line, port)
    key = _port_key(work)
    work.prepare()
    check_command(work, line, command.evidence)
    if GIVEN_FOLDER in line:
        work.state.confined.own_folder(GIVEN_FOLDER)
    variables = {**work.variables(), **dict.fromkeys(_port_variables(key), str(port))}
    if debugging is not None:
        own = {name: variables.get(name, "") for name in debugging.joined}
        variables |= debugging.variables
        for name, separator in debugging.joined.items():
            variables[name] = separator.join(filter(None, (debugging.variables[name], own[name])))
    log = work.state.log(work.part.key, "server")
    mark = new_mark()
    group = make_group(mark)
    record: dict[str, Any] = {
        "mark": mark,
        "command": line,
        "log": str(log),
        "port": port,
        "wanted": wanted,
        "pid": 0,
        "started": 0,
        "group": group,
        "attach": dict(debugging.attach) if debugging is not None else None,
    }
    # On disk before the start, so that a run after a kill finds the processes by their mark.
    work.state.keep_server(work.part.key, record)
    work.making("server", log, exclude=False)
    output = work.state.open_log(work.part.key, "server")
    running, process = start(line, work.folder, variables, log, port, mark, output, group)
    record.update(running.as_record(), fingerprint=fingerprint)
    work.state.keep_server(work.part.key, record)
    from plainfall.server.readiness import wait_until_ready

    try:
        before = work.state.record(work.part.key, "start time").get("seconds", 0.0)
        unit = f"s waited; it took {before:.0f} s the last time" if before >= 2 else "s waited"
        ready = wait_until_ready(
            running,
            process,
            max(work.wishes.wait, 3 * before),
            lambda waited: work.progress(int(waited), 0, unit),
            elsewhere=0.5 if debugging is None else 20.0,
        )
        if ready.state != "answers":
            raise _failure(work, command, running, ready)
        record.update(with_others(running).as_record())
        release(process.pid)  # it is meant to stay when this process ends
    except BaseException:
        stop(running, process)
        work.state.keep_server(work.part.key, None)
        raise
    host = (
        "localhost" if ready.host == "127.0.0.1" else f"[{ready.host}]" if ":" in ready.host else ready.host
    )
    record.update(port=ready.port, url=f"{ready.scheme}://{host}:{ready.port}/")
    work.state.keep_server(work.part.key, record)
    work.state.keep(work.part.key, "start time", {"seconds": round(ready.seconds, 2)})
    return record, ready


def _failure(work: Work, command: Command, running: Running, ready: Ready) -> ServerFailed:
    output = work.masked(end_of_log(Path(running.log)))
    known = diagnose_for(work, output, ready.exit_status)
    if ready.state == "asks":
        return ServerFailed(
            f"the server asks a question, and there is no input here: {ready.question}",
            remedy="Settle it beforehand: a free port with --port N, else an option or variable of that "
            "tool, or its configuration.",
            place=command.evidence,
            lines=lines_that_matter(output),
            log=running.log,
        )
    if ready.state == "circles":
        cause = f"the server restarts again and again, without an answer in {ready.seconds:.0f} s"
    elif ready.state == "ended":
        cause = f"the server ended with status {ready.exit_status} after {ready.seconds:.1f} s"
    else:
        value = listening_ports(belonging(running))
        where = f"though it listens on {', '.join(map(str, value))}" if value else "and listens on no port"
        if ready.mute:
            where += ": what it says there is no HTTP" if value else ""
        cause = f"the server gave no answer within {ready.seconds:.0f} s, {where}"
    error = (CommandEnded if ready.state == "ended" else ServerFailed)(
        cause + (f": {known.cause}" if known.cause else ""),
        remedy=known.remedy + mend_words(known)
        or (
            "Read its lines above."
            if ready.state == "ended"
            else "Give it longer with --wait SECONDS, or read its log."
        ),
        place=command.evidence,
        lines=lines_that_matter(output) or ("(no output)",),
        log=running.log,
        mend=known.mend,
    )
    if isinstance(error, CommandEnded):
        error.another_may_do = known.rule in _ANOTHER_MAY_DO
    return error


def _port_key(work: Work) -> str | None:
    """The setting that holds the server's port, if one does."""
    for key in PORT_KEYS:
        if work.settings.get(key, "").isdigit():
            return key
    return None


def running_of(record: dict[str, Any]) -> Running:
    """The record of a server as a value."""
    return Running.of_record(record)


def _runs(record: dict[str, Any]) -> bool:
    """Whether the server's processes live and hold its port."""
    pids = belonging(running_of(record))
    return bool(pids) and record["port"] in listening_ports(pids)


def _detail(record: dict[str, Any]) -> dict[str, Any]:
    return {name: record.get(name) for name in ("command", "url", "port", "pid", "log")}


def stop_server(work: Work, record: dict[str, Any]) -> list[int]:
    """Ends a recorded server and drops the record; returns the ids of the ended processes."""
    ended = stop(running_of(record)) if record.get("pid") or marked(record["mark"], record["group"]) else []
    work.state.keep_server(work.part.key, None)
    return ended


def probe(work: Work) -> StepResult:
    """Asks for the page; kept if this very server was probed well before. Raises ServerFailed if no page
    answers well."""
    record = work.server
    if record is None:
        return StepResult(State.LEFT_OUT, "no server runs", "none was started")
    before = record.get("probe")
    if before and not before["problem"]:
        return StepResult(
            State.KEPT,
            _probe_words(before),
            "this very server was probed before; `plainfall probe` asks it now",
            (),
            (),
            {"probe": before},
        )
    result, tried = best_page(record["url"], work.part.pages)
    if result.status == 400 and "//localhost:" in record["url"]:
        # A server that checks host names may know itself by its address only.
        by_address = record["url"].replace("//localhost:", "//127.0.0.1:")
        again, tried = best_page(by_address, work.part.pages)
        if not again.problem:
            result = again
            record["url"] = by_address
    if result.status == 400 and not _REFUSED.search(end_of_log(Path(record["log"]))):
        result = replace(result, problem="", notes=(*result.notes, _ANSWERS[422]))
    record["probe"] = result.as_json()
    work.state.keep_server(work.part.key, record)
    if result.problem:
        raise probe_failure(work, record, result, tried)
    return StepResult(
        State.DONE,
        _probe_words(result.as_json()),
        "" if len(tried) == 1 else f"asked in turn: {', '.join(tried)}",
        (),
        (),
        {"probe": result.as_json()},
    )


def best_page(base: str, paths: tuple[str, ...]) -> tuple[Probe, list[str]]:
    """The first of the pages that answers well, else the first page's answer; and what was asked. A first
    page that does not exist (404), or wants more than was sent, says nothing against a server that has only an
    interface; one that asks for a login is what a person would see."""
    from plainfall.server.probe import probe_page

    tried: list[str] = []
    first: Probe | None = None
    for path in paths or ("/",):
        tried.append(path)
        result = probe_page(base.rstrip("/") + path)
        if not result.problem:
            return result, tried
        first = first or result
        if first.status not in _OF_INTERFACE:
            break
    assert first is not None
    if first.status in _ANSWERS:
        return replace(first, problem="", notes=(*first.notes, _ANSWERS[first.status])), tried
    return first, tried


def probe_failure(work: Work, record: dict[str, Any], result: Probe, tried: list[str]) -> ServerFailed:
    time.sleep(0.05)  # a server writes its log line after the answer is sent
    output = work.masked(end_of_log(Path(record["log"])))
    known = diagnose_for(work, output)
    return ServerFailed(
        f"{result.url}: {result.problem}" + (f" ({known.cause})" if known.cause else ""),
        remedy=known.remedy + mend_words(known)
        or "Read what the server logged for this request. It is left running.",
        lines=lines_that_matter(output),
        log=record["log"],
        mend=known.mend,
    )


def _probe_words(page: dict[str, Any]) -> str:
    title = f' "{page["title"]}"' if page["title"] else ""
    assets = page["assets"]
    good = sum(1 for asset in assets if asset["status"] < 400)
    loads = f", {good} of {len(assets)} assets load" if assets else ""
    return f"{page['status']}{title}{loads}, first byte after {page['first_byte_seconds'] * 1000:.0f} ms"
