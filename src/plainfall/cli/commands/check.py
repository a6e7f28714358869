"""Run the project's own tests, build, linters and type checkers, and count what they say."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from plainfall.cli.arguments import with_clone, with_parts
from plainfall.cli.console import Console
from plainfall.cli.view import RunView
from plainfall.clone.checks import KINDS, CheckFound
from plainfall.errors import UsageProblem
from plainfall.onboarding.run.clone_root import clone_of
from plainfall.onboarding.uses.check.checking import CheckDone, run_checks
from plainfall.onboarding.uses.check.found_checks import found_checks
from plainfall.surroundings import Surroundings

__all__ = ["ORDER", "arguments", "run"]

ORDER = 6  # among the commands that --help lists
_INDENT = 33
_STYLES = {"good": "good", "failed": "bad", "left out": "dim"}


def arguments(parser: argparse.ArgumentParser) -> None:
    """Defines the command's arguments."""
    with_clone(parser)
    with_parts(parser)
    parser.add_argument(
        "--kind", action="append", default=[], choices=KINDS, metavar="KIND",
        help=f"only this kind (repeatable): {', '.join(KINDS)}",
    )  # fmt: skip
    parser.add_argument("--list", action="store_true", help="show the checks that were found; run none")
    parser.add_argument(
        "--serve", action="store_true", help="put a built static site up and ask for its page"
    )
    parser.add_argument(
        "words", nargs="*", metavar="-- ARGUMENTS", help="for the one kind, behind two dashes"
    )


def run(options: argparse.Namespace, console: Console) -> int:
    """Runs the checks and shows each result as it comes."""
    surroundings = Surroundings.of_process()
    place = clone_of(Path(options.clone).absolute(), surroundings)
    if options.list:
        return _list(options, console, found_checks(place, options.part, surroundings))
    shown: list[str] = []

    view = RunView(console)

    def ended(done: CheckDone) -> None:
        view.pause()
        if not console.json:
            _show(console, done, shown, place.clone.name)

    try:
        done = run_checks(
            place, options.part, options.kind, options.words, surroundings, view.say, ended, options.serve
        )  # fmt: skip
    finally:
        view.pause()
    failed = [one for one in done if one.state == "failed"]
    if not done:
        wanted = " or ".join(options.kind) or "checks"
        raise UsageProblem(
            f"no {wanted} were found in this clone: not in manifests, configuration, README or CI workflows",
            remedy="Run one by hand: plainfall inside -- COMMAND",
        )
    if console.json:
        outcome = "failed" if failed else "done"
        console.document(
            {"outcome": outcome, "clone": str(place.clone), "checks": [_row(one) for one in done]}
        )
        return 1 if failed else 0
    good = sum(one.state == "good" for one in done)
    out = len(done) - good - len(failed)
    left = f", {out} left out" if out else ""
    console.result("")
    console.result(f"{good} of {len(done)} checks good{f', {len(failed)} failed' if failed else ''}{left}")
    return 1 if failed else 0


def _list(options: argparse.Namespace, console: Console, found: list[tuple[str, list[CheckFound]]]) -> int:
    if console.json:
        parts = [{"part": part, "checks": [one.as_json() for one in checks]} for part, checks in found]
        console.document({"outcome": "done", "parts": parts})
        return 0
    for part, checks in found:
        console.note(console.styled(part or ".", "strong"))
        if not checks:
            console.result("  none were found")
        for kind in KINDS:
            own = [one for one in checks if one.kind == kind and (not options.kind or kind in options.kind)]
            for number, one in enumerate(own):
                text = f"{one.line}  ({one.reason}; {one.evidence})"
                head = f"  {kind if number == 0 else '':<12}{'' if number == 0 else 'or '}"
                console.result(console.wrapped(text, 14, head))
    return 0


def _show(console: Console, done: CheckDone, shown: list[str], name: str) -> None:
    if done.part not in shown:
        shown.append(done.part)
        console.note("")
        console.note(console.styled(f"{name}/{done.part}" if done.part else name, "strong"))
    state = console.styled(f"{done.state:<8}", _STYLES[done.state], out=True)
    timing = f"{done.seconds:6.2f} s" if done.state != "left out" else " " * 8
    counts = f": {done.results.words}" if done.results.words else ""
    head = f"  {state}  {timing}  {done.check.kind:<10} "
    text = f"{done.check.line}{counts}  ({done.check.evidence})"
    console.result(console.wrapped(text, _INDENT, head))
    if done.state == "left out":
        console.note(console.styled(console.wrapped(done.why, _INDENT, " " * _INDENT), "dim"))
    if done.state == "failed":
        failures = done.results.failures[:8]
        for one in failures:
            text = f"{one.name}  {one.text}".rstrip()
            console.result(console.wrapped(text, _INDENT + 2, " " * _INDENT + "· "))
        more = (done.results.failed or done.results.problems or 0) - len(failures)
        if failures and more > 0:
            console.result(f"{' ' * _INDENT}  and {more} more")
        for line in done.lines if not failures else ():
            console.note(f"{' ' * _INDENT}│ {line[: max(20, console.width - _INDENT - 3)]}")
    if done.remedy:
        console.note(console.wrapped(done.remedy, _INDENT, f"{'do':>{_INDENT - 2}}  "))
    for text in done.remarks:
        console.note(console.wrapped(text, _INDENT + 2, " " * _INDENT + "· "))
    for path in done.reports:
        console.result(f"{' ' * _INDENT}report: {path}")
    if done.built is not None:
        built = done.built
        page = "; --serve puts it up" if built.page and done.served is None else ""
        size = f"{built.size / 1e6:.1f} MB" if built.size >= 1e6 else f"{built.size / 1e3:.0f} kB"
        folder = f"{done.part}/{built.folder}" if done.part else built.folder
        files = "1 file" if built.files == 1 else f"{built.files:,} files"
        text = f"made {folder}: {files}, {size}{page}"
        console.result(console.wrapped(text, _INDENT, " " * _INDENT))
    if done.served is not None:
        probe = done.served["probe"]
        words = probe["problem"] or f'{probe["status"]} "{probe["title"]}"'
        console.result(f"{' ' * _INDENT}served at {done.served['url']}: {words}; end it: plainfall stop")
    if done.state == "failed" and done.log:
        console.note(f"{' ' * _INDENT}log: {console.shown_path(done.log)}")


def _row(done: CheckDone) -> dict[str, Any]:
    results = done.results
    return {
        "part": done.part,
        **done.check.as_json(),
        "state": done.state,
        "why": done.why,
        "seconds": round(done.seconds, 3),
        "passed": results.passed,
        "failed": results.failed,
        "skipped": results.skipped,
        "problems": results.problems,
        "failures": [{"name": one.name, "text": one.text} for one in results.failures],
        "lines": list(done.lines),
        "remedy": done.remedy,
        "reports": list(done.reports),
        "built": done.built
        and {
            "folder": done.built.folder,
            "files": done.built.files,
            "bytes": done.built.size,
            "page": done.built.page or None,
        },
        "served": done.served
        and {"url": done.served["url"], "pid": done.served["pid"], "probe": done.served["probe"]},
        "remarks": done.remarks,
        "log": done.log,
    }
