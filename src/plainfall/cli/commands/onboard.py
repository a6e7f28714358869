"""Carry out every step, up to a dev server that answers."""

from __future__ import annotations

import argparse
import re
import shlex
from pathlib import Path

from msgspec.structs import replace

from plainfall.cli.arguments import STAGES, brought, with_parts, with_source, with_wishes
from plainfall.cli.asking import TerminalAsker
from plainfall.cli.console import Console
from plainfall.cli.view import RunView, examples_text, part_heading, part_of, show_contradictions
from plainfall.ecosystems.shape import InstallWishes
from plainfall.errors import BadInput, UsageProblem
from plainfall.evidence import Evidence
from plainfall.formats.dotenv import parse_dotenv
from plainfall.onboarding.part.choices import Wishes
from plainfall.onboarding.part.steps import Stage, State
from plainfall.onboarding.part.team_decisions import as_toml, write_into_team_file
from plainfall.onboarding.records.outcome import outcome_document
from plainfall.onboarding.run.clone_root import clone_of
from plainfall.onboarding.run.onboard import Outcome, onboard
from plainfall.settings.answers import TEAM_FILE, parse_given
from plainfall.surroundings import Surroundings

__all__ = [
    "ORDER",
    "arguments",
    "exit_status",
    "given_of",
    "run",
    "show_disagreements",
    "show_outcome",
    "verdict",
    "wishes_of",
]

ORDER = 2  # among the commands that --help lists


def arguments(parser: argparse.ArgumentParser) -> None:
    """Defines the command's arguments."""
    with_source(parser)
    with_parts(parser)
    with_wishes(parser)
    parser.add_argument(
        "--preview",
        action="store_true",
        help="say for each step whether it is still right, or what would be done and why; change nothing",
    )
    parser.add_argument(
        "--keep-choices",
        action="store_true",
        help="write what a search found out into plainfall.toml, so that nobody has to search",
    )
    parser.add_argument("--until", choices=STAGES, metavar="STAGE", help=f"stop after: {', '.join(STAGES)}")


def run(options: argparse.Namespace, console: Console) -> int:
    """Onboards the clone and shows the outcome."""
    surroundings = Surroundings.of_process()
    folder = brought(options, console, surroundings)
    options.clone = options.clone if Path(options.clone).is_dir() else str(folder)
    view = RunView(console, preview=options.preview)
    try:
        outcome = onboard(
            clone_of(folder.absolute(), surroundings),
            wishes_of(options),
            surroundings,
            view,
            until=Stage(options.until) if options.until else None,
            names=options.part,
            preview=options.preview,
            ask=TerminalAsker(console, view) if console.may_ask else None,
        )
    finally:
        view.pause()
    if options.keep_choices and not options.preview:
        outcome.remarks += keep_choices(outcome)
        # The lines need not be shown.
        outcome.works = {key: replace(work, searched=False) for key, work in outcome.works.items()}
    if console.json:
        console.document(outcome_document(outcome))
    elif options.preview:
        _show_preview(console, view, outcome)
    else:
        show_outcome(console, outcome, options.clone)
    return exit_status(outcome)


def wishes_of(options: argparse.Namespace) -> Wishes:
    """The options as wishes of the run. Raises UsageProblem or BadInput for an answers file."""
    runtime = Path(options.runtime).absolute() if options.runtime else None
    install = InstallWishes(
        frozenset(options.extra),
        frozenset(options.group),
        _instead(options.instead),
        options.keep_lock,
        frozenset(options.allow_install_code),
        hosts=frozenset(host.lower() for host in options.allow_registry),
        from_imports=options.from_imports,
        as_of=options.as_of or "",
        with_client=options.with_pip,
    )
    return Wishes(
        given_of(options),
        options.port,
        runtime,
        options.seed_again,
        options.wait,
        options.mend,
        environment=options.environment or "",
        skip=frozenset(options.skip),
        fetch_services=options.fetch_services,
        install=install,
        attempts=options.attempts,
    )


def given_of(options: argparse.Namespace) -> dict[str, str]:
    """The settings' values among the options: those of the answers file, then those after ``--set``. Raises
    UsageProblem or BadInput."""
    given: dict[str, str] = {}
    if options.answers:
        path = Path(options.answers)
        try:
            given = parse_dotenv(path.read_text("utf-8-sig"), options.answers).values()
        except OSError as error:
            raise UsageProblem(f"{path} cannot be read: {error.strerror}") from error
        except UnicodeDecodeError as error:
            raise BadInput("it is not UTF-8 text", place=Evidence(options.answers)) from error
    return given | parse_given(options.set)


def _instead(pairs: list[str]) -> dict[str, str]:
    instead = {}
    for pair in pairs:
        name, joined, version = pair.partition("==")
        if not joined or not name.strip() or not version.strip():
            raise UsageProblem(
                f"--instead wants NAME==VERSION, not {pair!r}", remedy="As in: --instead gaugekit==1.2"
            )
        instead[re.sub(r"[-_.]+", "-", name.strip()).lower()] = version.strip()
    return instead


def exit_status(outcome: Outcome) -> int:
    """0, 1 or 3, by the outcome."""
    return {"done": 0, "failed": 1, "open": 3}[outcome.outcome]


def show_disagreements(console: Console, outcome: Outcome) -> None:
    """Prints contradictions, and what is not onboarded, to standard error."""
    show_contradictions(console, outcome.contradictions)
    remarks = [f"{text} ({place})" for text, place in outcome.survey.remarks]
    for text in (*remarks, *outcome.remarks):
        console.note(console.wrapped(text, 12, "  " + console.styled("note", "warn") + "      "))


def _show_preview(console: Console, view: RunView, outcome: Outcome) -> None:
    part = None
    for step, result, seconds in outcome.steps:
        if step.part != part:
            part = step.part
            candidate = part_of(outcome.survey, part)
            console.note("")
            console.note(part_heading(console, outcome.survey, candidate))
        view.show_step(step, result, seconds)
    console.note("")
    show_disagreements(console, outcome)
    to_do = sum(result.state is State.TO_DO for _, result, _ in outcome.steps)
    fails = any(result.state is State.FAILED for _, result, _ in outcome.steps)
    steps = f"{to_do} of {len(outcome.steps)} steps to do" if to_do or fails else "nothing to do"
    ending = "; as things are the run fails" if fails else ""
    console.result(f"{steps}{ending}; nothing was changed")


def show_outcome(console: Console, outcome: Outcome, clone: str) -> None:
    """The end of a run: contradictions, the address, how to go on."""
    console.note("")
    show_disagreements(console, outcome)
    if outcome.contradictions or outcome.survey.remarks:
        console.note("")
    named = "" if clone == "." else f" {shlex.quote(clone)}"
    for part, record in outcome.servers.items():
        where = f"{part}: " if part else ""
        probe = record.probe or {}
        style = "good" if probe and not probe.get("problem") else "warn"
        address = console.styled(f"{where}{probe.get('url') or record.url}", style, out=True)
        console.result(f"{address}  log {console.shown_path(record.log)}")
    _show_beside(console, outcome, named)
    if outcome.survey.examples and not outcome.servers and outcome.outcome == "done":
        console.note(examples_text(console, outcome.survey, named))
    if outcome.changes:
        console.note("")
    for number, text in enumerate(outcome.changes):
        console.note(
            console.wrapped(text, 12, "  " + console.styled("changed", "strong") + "   " if number else "")
        )
    show_choices(console, outcome)
    console.result(verdict(outcome))
    if outcome.outcome == "done" and outcome.servers:
        console.note(
            f"look again: plainfall probe{named}   end it: plainfall stop{named}   reasons: --verbose"
        )


def keep_choices(outcome: Outcome) -> list[str]:
    """Writes what the run's searches have decided into the team's file; returns what is to be said of it. Raises
    BadInput, PathRefused."""
    rows = [(key, work.decisions) for key, work in outcome.works.items() if as_toml(work.decisions, key)]
    if not rows:
        return [f"nothing had to be searched for: {TEAM_FILE} is as it was"]
    work = next(iter(outcome.works.values()))
    had = write_into_team_file(work.state.confined, work.tree, rows)
    said = (
        [f"{TEAM_FILE} has decisions for {', '.join(had)} already, and they are left as they are"]
        if had
        else []
    )
    if len(had) < len(rows):
        said.append(
            f"written into {TEAM_FILE}: what was decided for {', '.join(key or '.' for key, _ in rows)}"
        )
    return said


def show_choices(console: Console, outcome: Outcome) -> None:
    """What this run's searches have decided, as lines for the team's file."""
    for key, work in outcome.works.items():
        text = as_toml(work.decisions, key) if work.searched else ""
        if text and outcome.outcome == "done":
            console.note("")
            console.note(
                f"  nobody has to search again with these lines in {TEAM_FILE} (--keep-choices writes them):"
            )
            for line in text.splitlines():
                console.note(console.styled(f"    {line}", "dim"))
            console.note("")


def _show_beside(console: Console, outcome: Outcome, named: str) -> None:
    """The processes beside the servers: those that run, and how each of the others is started."""
    for (_, name), record in outcome.processes.items():
        address = f"{name}: process {record.pid}"
        console.result(f"{console.styled(address, 'good', out=True)}  log {console.shown_path(record.log)}")
    for part in outcome.survey.parts:
        for process in part.processes if part.key in outcome.servers else ():
            if (part.key, process.name) not in outcome.processes:
                text = (
                    f"{process.name}: {process.line} ({process.evidence}); start it, too: "
                    f"plainfall serve{named} --with {process.name}"
                )
                console.note(console.wrapped(text, 12, "  " + console.styled("beside", "strong") + "    "))


def verdict(outcome: Outcome) -> str:
    """The run in one line."""
    took = f"{outcome.seconds:.1f} s" if outcome.seconds >= 0.95 else f"{outcome.seconds * 1000:.0f} ms"
    if outcome.outcome == "open":
        return f"a value is needed before it can go on ({took})"
    if outcome.failure:
        stage = outcome.failure[0].stage.value
        return f"failed at {stage} after {took}; mend it and run the same command again, it goes on there"
    kept = sum(result.state.value == "kept" for _, result, _ in outcome.steps)
    were = (
        f", {kept} of {len(outcome.steps)} steps were done already" if kept and not outcome.is_first else ""
    )
    return f"done in {took}{were}"
