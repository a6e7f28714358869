"""Write down how the clone was got running: a page, a text, a script, a README section."""

from __future__ import annotations

import argparse
import itertools
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from plainfall.cli.arguments import with_clone
from plainfall.cli.console import Console
from plainfall.errors import PlainfallError, UsageProblem
from plainfall.onboarding.run.clone_root import clone_of
from plainfall.onboarding.uses.report.readme_section import differences, readme_section
from plainfall.onboarding.uses.report.reporting import Report, report_of
from plainfall.settings.setting import ORIGINS, Setting
from plainfall.surroundings import Surroundings
from plainfall.writing import write_replacing

__all__ = ["ORDER", "arguments", "run"]

ORDER = 7  # among the commands that --help lists
_FORMS = ("page", "markdown", "steps", "readme")


def arguments(parser: argparse.ArgumentParser) -> None:
    """Defines the command's arguments."""
    with_clone(parser)
    parser.add_argument(
        "--as", dest="form", choices=_FORMS, default="page", metavar="FORM",
        help="page: one HTML file (usual); markdown: in short, for a chat; steps: the commands by hand, as a shell "
        "script; readme: a section that is true, and where the README differs",
    )  # fmt: skip
    parser.add_argument(
        "--into",
        metavar="FILE",
        help="the file to write (the page: NAME-report.html here; the others: printed)",
    )
    parser.add_argument("--no-pictures", action="store_true", help="take no pictures of the pages")


def run(options: argparse.Namespace, console: Console) -> int:
    """Gathers the report and writes it in the form that was asked for."""
    surroundings = Surroundings.of_process()
    place = clone_of(Path(options.clone).absolute(), surroundings)
    if not place.clone.is_dir():
        raise UsageProblem(f"{options.clone} is no folder", remedy="Name the folder of a clone.")
    pictures = options.form == "page" and not options.no_pictures
    with console.waiting("gathering what is known") as tell:
        report = report_of(place, surroundings, pictures=pictures, tell=tell)
    text = _text(report, options.form)
    into = options.into or (f"{report.name}-report.html" if options.form == "page" else "")
    if into:
        _write(Path(into), text, runs=options.form == "steps")
    if console.json:
        document = {"outcome": "done", "clone": str(report.clone), "form": options.form, "file": into or None}
        more = {"differences": differences(report)} if options.form == "readme" else {}
        console.document({**document, **more, "text": None if into else text, "notes": report.notes})
        return 0
    if into:
        console.result(f"written: {into} ({len(text.encode()) / 1000:.0f} kB)")
    else:
        console.plain(text)
    if options.form == "readme":
        found = differences(report)
        console.note("")
        console.note("the present README differs:" if found else "the present README says nothing else")
        for one in found:
            console.note(console.wrapped(one, 4, "  · "))
    for one in report.notes:
        console.note(console.wrapped(one, 2, "· "))
    return 0


def _write(path: Path, text: str, *, runs: bool) -> None:
    """Writes the file that the person named. A script may be run. Raises UsageProblem for a folder, PlainfallError
    where nothing can be written."""
    if path.is_dir():
        raise UsageProblem(f"{path} is a folder", remedy="Name a file in it.")
    try:
        write_replacing(path.absolute(), text, mode=0o755 if runs else 0o644)
    except OSError as error:
        raise PlainfallError(f"{path} cannot be written: {error.strerror or error}") from error


def _text(report: Report, form: str) -> str:
    if form == "steps":
        return report.script
    if form == "readme":
        return readme_section(report)
    return _markdown(report) if form == "markdown" else _page(report)


def _seconds(value: float | None) -> str:
    if value is None:
        return ""
    return f"{value:.1f} s" if value >= 0.95 else f"{value * 1000:.0f} ms"


def _place(one: dict[str, Any]) -> str:
    return f"{one['path']}:{one['line']}" if one.get("line") else str(one["path"])


def _grouped(report: Report) -> Iterator[tuple[str, list[tuple[dict[str, Any], dict[str, Any]]]]]:
    for part, rows in itertools.groupby(report.steps, key=lambda pair: str(pair[0]["part"])):
        yield part, list(rows)


def _shown_settings(report: Report) -> list[tuple[str, list[Setting]]]:
    files: dict[str, list[Setting]] = {}
    for settled in report.settled:
        for one in settled.settings:
            files.setdefault(one.file, []).append(one)
    return sorted(files.items())


def _page(report: Report) -> str:
    """One HTML file that needs nothing else."""
    from jinja2 import Environment, PackageLoader

    from plainfall.ecosystems import title_of

    environment = Environment(
        loader=PackageLoader("plainfall.cli", "pages"), autoescape=True, trim_blocks=True, lstrip_blocks=True
    )
    longest = max((done["seconds"] for _, done in report.steps), default=0.0) or 1.0
    rows = [row for row, _ in report.steps]
    commit = next((str(one.get("commit") or "") for one in reversed(report.record.runs)), "")
    return environment.get_template("report.html.j2").render(
        r=report, last=report.record.last, runs=report.record.runs, commit=commit, steps=list(_grouped(report)),
        runtimes=[(done["part"], done) for _, done in report.steps if done["stage"] == "runtime"],
        services=[
            (done["part"], done) for _, done in report.steps
            if done["stage"] == "services" and done["detail"].get("services")
        ],
        packages=[
            (row["part"], sorted({*row["detail"].get("laid", ()), *row["detail"].get("kept", ())}))
            for row in rows
            if row["stage"] == "dependencies" and (row["detail"].get("laid") or row["detail"].get("kept"))
        ],
        settings=_shown_settings(report), origins=ORIGINS, failures=[one for one in report.record.runs if
        one["failure"]], seconds=_seconds, place=_place, title=title_of, share=lambda value: round(100 * value /
        longest, 1),
    )  # fmt: skip


def _markdown(report: Report) -> str:
    """The same in short."""
    last = report.record.last
    state = {"done": "runs", "open": "waits for a value", "failed": "failed"}[last["outcome"]]
    rows = [f"**{report.name}** {state} ({_seconds(last['seconds'])}, {report.record.runs[-1]['at']})", ""]
    for part, steps in _grouped(report):
        rows.append(f"- **{report.title_of_part(part)}**")
        for _, done in steps:
            if done["state"] in ("done", "kept", "failed"):
                mark = "✗ " if done["state"] == "failed" else ""
                rows.append(f"  - {mark}{done['stage']}: {done['title']} ({_seconds(done['seconds'])})")
    for server in report.servers:
        rows.append(f"- {server.url}{' (not running now)' if not server.runs else ''}")
    for part, kinds in report.checks.items():
        for kind, one in kinds.items():
            words = f": {one.words}" if one.words else ""
            rows.append(f"- {kind}{f' of {part}' if part else ''}: {one.state}{words}")
    rows += [f"- disagree: {one.what}; taken: {one.taken}" for one in report.contradictions]
    rows += [f"- {text}" for text in report.mended]
    return "\n".join(rows) + "\n"
