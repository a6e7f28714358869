"""Look at a clone and say what it needs, with evidence; changes nothing."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from plainfall.cli.arguments import brought, with_source
from plainfall.cli.console import Console
from plainfall.cli.document import survey_document
from plainfall.cli.view import examples_text, part_heading, show_contradictions
from plainfall.clone.parts import PartFound, Survey
from plainfall.ecosystems import environment_of, title_of
from plainfall.errors import BadInput, NoFittingRuntime
from plainfall.evidence import Evidence
from plainfall.onboarding.run.clone_root import clone_of
from plainfall.surroundings import Surroundings
from plainfall.survey.branches import branch_remarks
from plainfall.survey.history import Branch, History, brief_of, history_of
from plainfall.survey.look import look

__all__ = ["ORDER", "arguments", "run"]

ORDER = 1  # among the commands that --help lists
_SHOWN_KEYS = 24


def arguments(parser: argparse.ArgumentParser) -> None:
    """Defines the command's arguments."""
    with_source(parser)
    parser.add_argument(
        "--history",
        action="store_true",
        help="who made it, and whether it is alive: commits, people, files, branches",
    )
    parser.add_argument(
        "--release-index",
        metavar="WHERE",
        help="learn Node's release lines from the index.json that lies next to its builds (a file or an "
        "address), and show them; no clone is looked at",
    )


def run(options: argparse.Namespace, console: Console) -> int:
    """Surveys the clone and prints the result."""
    surroundings = Surroundings.of_process()
    if options.release_index:
        return _learn(options.release_index, surroundings, console)
    place = clone_of(brought(options, console, surroundings).absolute(), surroundings)
    survey, _ = look(place.clone, surroundings.cache, folder=place.folder)
    runtimes = {part.key: _runtime(part, surroundings) for part in survey.parts}
    history = history_of(place.clone, surroundings.variables) if options.history else None
    remarks = branch_remarks(place.clone, surroundings.variables)
    if console.json:
        told = {"history": history.as_json() if history is not None else None} if options.history else {}
        document = survey_document(survey, runtimes)
        document["remarks"] += [{"text": text, "evidence": [where.as_json()]} for text, where in remarks]
        console.document({**document, **told})
        return 0
    for part in survey.parts:
        _show_part(console, survey, part, runtimes[part.key])
    _show_rest(console, survey)
    if options.history:
        _show_history(console, history)
    elif (brief := brief_of(place.clone, surroundings.variables)) is not None:
        console.result("")
        commits = "1 commit" if brief.commits == 1 else f"{brief.commits:,} commits"
        _row(console, "history", f"{commits}, the last on {brief.last} (more: --history)")
        if len(brief.branches) > 1:
            _row(console, "branches", _branches(brief.branches, brief.branch))
    for text, where in remarks:
        _row(console, "", f"{text} ({where})")
    return 0


def _learn(where: str, surroundings: Surroundings, console: Console) -> int:
    """Stores the release lines of an index (a file or an address) and prints those that are known now."""
    from plainfall.ecosystems.node.runtime.lines import learn_lines

    if where.startswith(("http://", "https://")):
        from plainfall.packages.client import Connection, RegistryClient

        client = RegistryClient(Connection(), surroundings.variables)
        try:
            page = client.page(where)
        finally:
            client.close()
        if page is None:
            raise BadInput("there is no such page", place=Evidence(where), remedy="Check the address.")
        text = page.body.decode("utf-8", "replace")
    else:
        try:
            text = Path(where).read_text("utf-8-sig")
        except (OSError, UnicodeDecodeError) as error:
            raise BadInput(
                f"it cannot be read: {error}", place=Evidence(where), remedy="Check the path."
            ) from error
    lines = learn_lines(text, where, surroundings.cache)
    rows = sorted((major, name, ends) for name, (major, ends) in lines.by_name.items())
    if console.json:
        document = [{"major": major, "name": name, "ends": ends.isoformat()} for major, name, ends in rows]
        console.document({"release_lines": document})
        return 0
    for major, name, ends in rows:
        state = "supported until" if major in lines.current() else "support ended"
        console.result(f"  Node {major:<4} {name:<12} {state} {ends}")
    return 0


_BARS = " ▁▂▃▄▅▆▇█"


def _branches(branches: Sequence[Branch], here: str) -> str:
    """The branches with the day of their last change, the one that is checked out marked."""
    shown = [f"{one.name} {one.last}{' (checked out)' if one.name == here else ''}" for one in branches[:8]]
    return ", ".join(shown) + (f" and {len(branches) - 8} more" if len(branches) > 8 else "")


def _show_history(console: Console, history: History | None) -> None:
    """All of the history."""
    if history is None:
        console.result("no history: no repository, no git, or nothing was committed yet")
        return
    people = "1 person" if len(history.people) == 1 else f"{len(history.people)} people"
    commits = "1 commit" if history.commits == 1 else f"{history.commits:,} commits"
    console.result("")
    _row(console, "history", f"{commits} by {people}, {history.first} to {history.last}")
    _row(console, "people", ", ".join(f"{name} ({count:,})" for name, count in history.people[:8]))
    most = max(count for _, count in history.months) or 1
    bars = "".join(_BARS[-(-count * (len(_BARS) - 1) // most)] for _, count in history.months)
    _row(
        console,
        "months",
        f"{history.months[0][0]} {bars} {history.months[-1][0]}  (at most {most:,} in a month)",
    )
    if history.files:
        files = ", ".join(f"{path} ({count})" for path, count in history.files[:6])
        _row(console, "changed most", files, "in the last 300 commits")
    if len(history.branches) > 1:
        _row(console, "branches", _branches(history.branches, history.branch))
    if history.tags:
        more = f" and {len(history.tags) - 4} more" if len(history.tags) > 4 else ""
        _row(console, "tags", ", ".join(f"{one.name} {one.last}" for one in history.tags[:4]) + more)
    behind = "follows no branch of another repository"
    if history.behind is not None:
        behind = f"{history.behind} behind and {history.ahead} ahead of what was last fetched"
    state = {0: "no tracked file differs", 1: "1 tracked file differs"}.get(
        history.changed, f"{history.changed} tracked files differ"
    )
    _row(console, "checkout", f"{history.branch or 'a commit, no branch'}: {behind}; {state} from the commit")


def _runtime(part: PartFound, surroundings: Surroundings) -> dict[str, Any]:
    """Prints the interpreter that would be taken; the survey goes on where none fits."""
    try:
        choice = environment_of(part.language).choose_runtime(part, surroundings, None, offline=True)
    except NoFittingRuntime as error:
        return {"chosen": None, "candidates": [], "problem": f"{error.cause}: {'; '.join(error.lines)}"}
    taken = choice.taken
    candidates = [{"path": str(taken.path), "version": taken.version, "state": "chosen", "reason": ""}]
    candidates += [
        {"path": other.path, "version": other.version, "state": "rejected", "reason": other.reason}
        for other in choice.rejected
    ]
    chosen = {"version": taken.version, "path": str(taken.path), "file": str(taken.file)}
    return {"chosen": chosen, "candidates": candidates, "problem": None}


def _row(console: Console, name: str, text: str, why: str = "") -> None:
    console.result(console.wrapped(text, 16, f"  {name:<14}"))
    if why:
        console.result(console.styled(console.wrapped(why, 16, " " * 16), "dim", out=True))


def _show_part(console: Console, survey: Survey, part: PartFound, runtime: dict[str, Any]) -> None:
    console.result(part_heading(console, survey, part))
    asked = ", ".join(f"{ask.text} ({ask.evidence})" for ask in part.asks) or "no version is asked for"
    chosen = runtime["chosen"]
    text = (
        f"{title_of(part.language)} {chosen['version']} at {console.shown_path(chosen['file'])}"
        if chosen
        else ""
    )
    _row(console, "runtime", text or runtime["problem"], f"asked for: {asked}")
    if console.verbose:
        for other in runtime["candidates"][1:]:
            _row(
                console,
                "",
                f"not {console.shown_path(other['path'])} ({other['version']}): {other['reason']}",
            )
    listed = part.dependencies
    if listed:
        others = f"; not used: {', '.join(listed.others)}" if listed.others else ""
        _row(
            console,
            "dependencies",
            f"{listed.path}, {listed.count} packages",
            f"{listed.reason} ({listed.evidence}){others}",
        )
    else:
        _row(console, "dependencies", "no list was found")
    if listed and any(listed.offered):
        extras, groups = listed.offered
        words = [f"--extra {name}" for name in extras] + [f"--group {name}" for name in groups]
        _row(console, "", f"offered: {', '.join(words)}")
    for framework in part.frameworks:
        _row(console, "framework", f"{framework.name} ({framework.evidence})")
    for result in part.templates:
        existing = "exists" if result.exists else "does not exist yet"
        loaded = f"loaded at {result.loaded}; " if result.loaded else ""
        text = f"{result.target} from {result.template} ({existing})"
        more = f" and {len(result.keys) - _SHOWN_KEYS} more" if len(result.keys) > _SHOWN_KEYS else ""
        _row(console, "settings", text, f"{loaded}keys: {', '.join(result.keys[:_SHOWN_KEYS])}{more}")
    for stage in ("migrations", "seeds", "server"):
        candidates = part.candidates(stage)
        if not candidates:
            late = part.candidates("task list") if stage != "server" else []
            told = f"what `{late[0].line}` lists, once the packages are installed" if late else ""
            _row(console, stage, told or "no command was found")
            continue
        best = candidates[0]
        lacks = f"; left out, since the clone has no {best.lacks} for it" if best.lacks else ""
        _row(console, stage, best.line, f"{best.reason} ({best.evidence}){lacks}")
        for other in candidates[1:]:
            if console.verbose:
                _row(console, "", f"or: {other.line} ({other.reason}, {other.evidence})")
    for process in part.processes:
        _row(console, "beside it", f"{process.name}: {process.line}", f"({process.evidence})")
    console.result()


def _show_rest(console: Console, survey: Survey) -> None:
    unknown = [step for step in survey.steps if not step.stage]
    if unknown:
        console.result("README steps that match no stage:")
        for step in unknown:
            console.result(f"  {step.command}  ({step.evidence})")
    if survey.examples:
        console.result(examples_text(console, survey, ""))
    show_contradictions(console, survey.contradictions, out=True)
    for text, place in survey.remarks:
        console.result(
            console.wrapped(
                f"{text} ({place})", 12, "  " + console.styled("note", "warn", out=True) + "      "
            )
        )
