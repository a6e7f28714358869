"""Bring up the dev servers of a clone and follow them until interrupted."""

from __future__ import annotations

import argparse
import time
from collections.abc import Collection, Sequence
from pathlib import Path

from msgspec.structs import replace

from plainfall.cli.arguments import port, seconds, with_clone, with_mending, with_parts
from plainfall.cli.commands.onboard import exit_status, show_outcome
from plainfall.cli.console import Console
from plainfall.cli.ending import handled, taking_time
from plainfall.cli.listing import list_servers
from plainfall.cli.view import RunView
from plainfall.clone.parts import Survey
from plainfall.diagnosis.reading import diagnose, lines_that_matter
from plainfall.errors import NothingToOnboard
from plainfall.kept_records import DataStep, ProcessKept
from plainfall.onboarding.part.choices import Wishes
from plainfall.onboarding.part.chosen_commands import choose_command, part_named, with_choices
from plainfall.onboarding.part.steps import Stage, State, Step, StepResult
from plainfall.onboarding.records.outcome import outcome_document
from plainfall.onboarding.records.register import Register
from plainfall.onboarding.records.state import CloneState
from plainfall.onboarding.run.clone_root import CloneFolder, clone_of, survey_of
from plainfall.onboarding.run.onboard import Outcome, onboard
from plainfall.onboarding.stages.second_processes import process_named, start_second_process
from plainfall.onboarding.uses.serve.following import Follower, Happening
from plainfall.onboarding.uses.serve.servers import Stopped, end_processes, stop_servers
from plainfall.surroundings import Surroundings

__all__ = ["ORDER", "arguments", "run"]

ORDER = 4  # among the commands that --help lists

_STAGES = (
    Stage.RUNTIME,
    Stage.ENVIRONMENT,
    Stage.DEPENDENCIES,
    Stage.SETTINGS,
    Stage.SERVICES,
    Stage.SERVER,
    Stage.PROBE,
)
_PAUSE = 0.1
_STYLES = ("kept", "good", "warn", "strong")


def arguments(parser: argparse.ArgumentParser) -> None:
    """Defines the command's arguments."""
    with_clone(parser)
    with_parts(parser)
    parser.add_argument("--background", action="store_true", help="return when they answer; they stay up")
    parser.add_argument("--list", action="store_true", help="show what runs where, of every clone; no more")
    parser.add_argument(
        "--commands",
        action="store_true",
        help="show the start commands that were found, the best first; no more",
    )
    parser.add_argument(
        "--command",
        metavar="WHICH",
        help="start with this command, now and later: its number in --commands, or a command line; auto: "
        "the first one again",
    )
    parser.add_argument(
        "--debug",
        action="store_true",
        help="under the language's debugger, on a loopback port; prints how an editor attaches",
    )
    parser.add_argument(
        "--with",
        action="append",
        default=[],
        dest="beside",
        metavar="NAME",
        help="also start this worker, scheduler or watcher, as process file, README or compose file name it; "
        "more than once for several",
    )
    parser.add_argument("--port", type=port, metavar="N", help="the port of the (first) server")
    with_mending(parser)
    parser.add_argument(
        "--wait", type=seconds, default=60.0, metavar="SECONDS", help="for a first answer (default: 60)"
    )


def run(options: argparse.Namespace, console: Console) -> int:
    """Lists, or chooses, or brings up; then follows unless that is to go on in the background."""
    surroundings = Surroundings.of_process()
    register = Register(surroundings.state)
    register.cut_logs()
    if options.list:
        return list_servers(console, register, surroundings.state)
    place = clone_of(Path(options.clone).absolute(), surroundings)
    state = CloneState(place.clone, surroundings.state)
    survey, _, parts = survey_of(place, options.part, state, surroundings)
    if options.commands:
        chosen = None if parts is None else {part.key for part in parts}
        return _show_commands(console, with_choices(survey, state), chosen)
    for name in options.beside:  # before anything is started
        process_named(list(survey.parts) if parts is None else parts, name)
    if options.command:
        part = parts[0] if parts else part_named(survey, None)
        with state.locked():
            choose_command(part, options.command, state)
    return _bring_up(options, console, place, surroundings)


def _bring_up(
    options: argparse.Namespace,
    console: Console,
    place: CloneFolder,
    surroundings: Surroundings,
) -> int:
    view = _ServeView(console)
    clone = place.clone
    before = {part: record.pid for part, record in CloneState(clone, surroundings.state).servers.items()}
    try:
        wishes = Wishes(
            port=options.port,
            wait=options.wait,
            mend=options.mend,
            debug=options.debug,
            attempts=options.attempts,
        )
        outcome = onboard(place, wishes, surroundings, view, only=_STAGES, names=options.part)
    finally:
        view.pause()
    state = CloneState(clone, surroundings.state)
    _hint_at_migrations(console, state, outcome)
    _show_attach(console, outcome)
    started = [part for part, record in outcome.servers.items() if before.get(part) != record.pid]
    running = set(outcome.processes)
    try:
        if options.beside and outcome.failure is None:
            _start_beside(console, outcome, options.beside, state)
    except BaseException:
        fresh = [key for key in outcome.processes if key not in running]
        end_processes(CloneFolder(clone), surroundings.state, fresh)
        for part in started:
            stop_servers(CloneFolder(clone), surroundings.state, part)
        raise
    if options.background or not outcome.servers:
        if console.json:
            console.document(outcome_document(outcome))
        else:
            show_outcome(console, outcome, options.clone)
        return exit_status(outcome)
    beside = {f"{part}|{name}" for part, name in outcome.processes if (part, name) not in running}
    return _follow(console, clone, outcome, started, beside, surroundings.state)


def _start_beside(console: Console, outcome: Outcome, names: Sequence[str], state: CloneState) -> None:
    """Starts the processes of these names and shows each. Raises CommandFailed where one ends at once."""
    parts = [work.part for work in outcome.works.values()]
    running = set(outcome.processes)
    with state.locked():
        for name in dict.fromkeys(names):
            part, process = process_named(parts, name)
            record = start_second_process(replace(outcome.works[part.key], state=state), process)
            outcome.processes[part.key, name] = record
            if not console.json:
                word = "kept" if (part.key, name) in running else "done"
                text = f"{name}: {process.line}, process {record.pid} ({process.evidence})"
                head = f"  {console.styled(f'{word:<8}', 'good')}  {'':8}  {'beside':<14}"  # as a step's line
                console.note(console.wrapped(text, 36, head))


def _hint_at_migrations(console: Console, state: CloneState, outcome: Outcome) -> None:
    """The hint to run ``onboard`` where a server fails, since this command carries out no other steps."""
    never = [
        part.key or outcome.survey.name
        for part in outcome.survey.parts
        if part.candidates("migrations") and state.kept(part.key, DataStep) is None
    ]
    if outcome.failure and never:
        console.note(
            f"the migrations of {', '.join(never)} were never applied here: plainfall onboard does that, too"
        )


def _show_attach(console: Console, outcome: Outcome) -> None:
    """How an editor attaches to each server that runs under a debugger."""
    for part, record in outcome.servers.items():
        if record.attach and not console.json:
            console.result(f"debugger of {part or outcome.survey.name}; for an editor:")
            console.document(record.attach)


class _ServeView(RunView):
    """A run's view that leaves out steps that were kept."""

    def show_step(self, step: Step, result: StepResult, seconds: float) -> None:
        if result.state in (State.DONE, State.FAILED) or step.stage is Stage.SERVER:
            super().show_step(step, result, seconds)


def _follow(
    console: Console,
    clone: Path,
    outcome: Outcome,
    started: list[str],
    beside: Collection[str],
    user_state: Path,
) -> int:
    """Shows what the servers and the processes ``beside`` them write, each line behind its part or name, until
    interrupted or until all have ended; then ends those that were started here."""
    own = {f"{part}|{name}": (part, name) for part, name in outcome.processes}
    followed: dict[str, ProcessKept] = {**outcome.servers}
    followed |= {key: outcome.processes[own[key]] for key in own}
    part_of = {key: own[key][0] if key in own else key for key in followed}
    names = {key: own[key][1] if key in own else key or outcome.survey.name for key in followed}
    width = max(map(len, names.values()))
    follower = Follower(followed, {key: outcome.works[part].folder for key, part in part_of.items()})
    ended: dict[str, str] = {}
    console.note("")
    for part, record in outcome.servers.items():
        console.result(f"{console.styled(record.url, 'good', out=True)}  {names[part]}")
    failed = outcome.failure is not None
    count = len(started) + len(beside)
    console.note("following them; Ctrl-C ends " + ("them" if count > 1 else "it") if count else
                 "following them; they were running before and are left running")  # fmt: skip
    source_text: dict[str, list[str]] = {key: [] for key in followed}
    try:
        while follower.running:
            for event in follower.poll():
                text = outcome.works[part_of[event.part]].masked(event.text)
                source_text[event.part] = [*source_text[event.part][-400:], text]
                if event.kind == "ended":
                    ended[event.part] = _why(source_text[event.part][:-1])
                _show(
                    console, names, width, event, ended.get(event.part, "") if event.kind == "ended" else text
                )
            time.sleep(_PAUSE)
    except KeyboardInterrupt:
        console.note("")
    with taking_time():
        stopped = [one for part in started for one in stop_servers(CloneFolder(clone), user_state, part)]
        stopped += end_processes(CloneFolder(clone), user_state, [own[key] for key in own if key in beside])
    handled()
    return _end(console, outcome, names, stopped, ended, failed)


def _why(lines: list[str]) -> str:
    """Why a server ended, from its last lines."""
    output = "\n".join(lines)
    known = diagnose(output)
    if known.cause:
        return f"its processes have ended: {known.cause}. {known.remedy}"
    last = lines_that_matter(output)[-1:] or ("(no output)",)
    return f"its processes have ended; last line: {last[0]}"


def _show(console: Console, names: dict[str, str], width: int, event: Happening, text: str) -> None:
    if console.json or console.quiet:
        return
    style = _STYLES[list(names).index(event.part) % len(_STYLES)]
    head = console.styled(f"{names[event.part]:<{width}} │", style, out=True)
    if event.kind == "line":
        console.log_line(f"{head} ", text)
        return
    text = console.styled(f"· {text}", "bad" if event.kind != "restarted" else "warn", out=True)
    console.result(f"{head} {text}")


def _end(
    console: Console,
    outcome: Outcome,
    names: dict[str, str],
    stopped: list[Stopped],
    ended: dict[str, str],
    failed: bool,
) -> int:
    status = 1 if ended or failed else 0
    if console.json:
        names_of_row = ("part", "port", "port_free", "process")
        rows = [{name: getattr(one, name) for name in names_of_row} for one in stopped]
        document = {"outcome": "failed" if status else "done", "stopped": rows, "ended": ended}
        console.document(document)
        return status
    for one in stopped:
        if one.process:
            console.result(f"{one.process}: ended")
        elif one.part not in ended:
            free = "is free" if one.port_free else "is in use by another program"
            console.result(f"{names[one.part]}: ended; port {one.port} {free}")
    return status


def _show_commands(console: Console, survey: Survey, chosen: Collection[str] | None) -> int:
    """The candidates for each part's start command, the best first."""
    parts = [part for part in survey.parts if chosen is None or part.key in chosen]
    if not any(part.candidates("server") for part in parts):
        raise NothingToOnboard(
            "no start command was found",
            remedy="Name one: plainfall serve --command 'LINE' (with --part FOLDER, if there are several).",
        )
    if console.json:
        rows = [
            {"part": part.key, "commands": [one.as_json() for one in part.candidates("server")]}
            for part in parts
        ]
        console.document({"parts": rows})
        return 0
    for part in parts:
        console.result(f"{part.key or survey.name}:")
        for number, one in enumerate(part.candidates("server"), 1):
            console.result(
                f"  {number}  {console.styled(one.line, 'strong' if number == 1 else 'plain', out=True)}"
            )
            console.result(
                console.styled(console.wrapped(f"{one.reason} ({one.evidence})", 5, "     "), "dim", out=True)
            )
    return 0
