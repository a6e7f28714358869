"""Show each configuration key: where its value is from, who reads it, what is open; changes nothing."""

from __future__ import annotations

import argparse
import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from plainfall.cli.arguments import with_clone, with_given
from plainfall.cli.commands.onboard import given_of
from plainfall.cli.console import Console
from plainfall.cli.view import show_contradictions
from plainfall.cli.visible import visible
from plainfall.clone.parts import Contradiction, Survey
from plainfall.errors import NothingToOnboard, UsageProblem
from plainfall.formats.values import shown_value
from plainfall.onboarding.part.settling import Settling
from plainfall.onboarding.records.state import CloneState
from plainfall.onboarding.run.clone_root import clone_of, survey_of
from plainfall.settings.setting import ORIGINS, Setting
from plainfall.settings.similar_names import nearest
from plainfall.settings.unit_settings import Settled
from plainfall.surroundings import Surroundings

_MOST_ROWS = 400  # keys that are shown of one file

__all__ = ["ORDER", "arguments", "run"]

ORDER = 3  # among the commands that --help lists

_OUTSIDE_THE_FILE = ("code default", "optional", "open")


def arguments(parser: argparse.ArgumentParser) -> None:
    """Defines the command's arguments."""
    with_clone(parser)
    parser.add_argument("--part", metavar="FOLDER", help="only this part (. for the clone's own folder)")
    parser.add_argument("--reveal", metavar="KEY", help="print the value of this one key, secret or not")
    with_given(parser)


def run(options: argparse.Namespace, console: Console) -> int:
    """Shows the settings of every part, or of the one that is named; changes nothing."""
    surroundings = Surroundings.of_process()
    place = clone_of(Path(options.clone).absolute(), surroundings)
    clone = place.clone
    state = CloneState(clone, surroundings.state)
    survey, tree, _ = survey_of(place, (), state, surroundings, partial=True)
    settling = Settling(survey, tree, state, given_of(options), surroundings.variables)
    units = [unit for unit in settling.units if options.part is None or unit.folder == _folder(options.part)]
    if not units:
        names = ", ".join(unit.folder or "." for unit in settling.units)
        raise UsageProblem(f"{options.part} is no part of this clone", remedy=f"Its parts are: {names}")
    settled = [settling.settle(unit, None) for unit in units]
    if options.reveal:
        return _reveal(options, console, settled)
    contradictions = [*survey.contradictions, *(result for one in settled for result in one.contradictions)]
    contradictions = list({result.what: result for result in contradictions}.values())
    if console.json:
        document = settings_document(clone, settled, contradictions)
        console.document(document)
        return 0
    for one in settled:
        _show(console, survey, one)
    show_contradictions(console, contradictions, out=True)
    return 0


def _folder(name: str) -> str:
    return "" if name in (".", "./") else name.strip("/")


def _reveal(options: argparse.Namespace, console: Console, settled: Sequence[Settled]) -> int:
    """The value of one key, secret or not, as it stands in a file."""
    key = options.reveal
    value: dict[str, str] = {}
    for one in settled:
        for file in one.files:
            value |= file.file.current.values() if file.file.current else {}
    if key not in value:
        similar = nearest(key, value)
        made = "no settings file of this clone holds it"
        raise NothingToOnboard(
            f"{key}: {made}" + (f"; {similar} is there" if similar else ""),
            remedy="plainfall onboard --until settings fills the files; plainfall settings lists the keys.",
        )
    if console.json:
        console.result(json.dumps({"key": key, "value": value[key]}, ensure_ascii=False))
    else:
        console.result(value[key])
    return 0


def settings_document(
    clone: Path, settled: Sequence[Settled], contradictions: Sequence[Contradiction]
) -> dict[str, Any]:
    """The document of ``settings --json``: no secret, and no value that is not in the clone already."""
    return {
        "clone": str(clone),
        "parts": [
            {
                "part": one.unit.folder,
                "languages": list(one.unit.languages),
                "files": [
                    {
                        "file": file.file.target,
                        "kind": file.file.kind,
                        "template": file.file.template_path or None,
                        "there": file.file.current is not None,
                        "complete": not file.changed,
                        "evidence": [file.file.loaded.as_json()] if file.file.loaded else [],
                    }
                    for file in one.files
                    if file.file.template or file.file.current or file.text
                ],
                "settings": [
                    {**setting.as_json(), "value": None if setting.secret else setting.value}
                    for setting in one.settings
                ],
                "constants": [
                    {
                        "name": result.name,
                        "value": result.value,
                        "kind": result.kind,
                        "evidence": [result.place.as_json()],
                    }
                    for result in one.constants
                ],
            }
            for one in settled
        ],
        "contradictions": [result.as_json() for result in contradictions],
    }


def _show(console: Console, survey: Survey, settled: Settled) -> None:
    unit = settled.unit
    name = f"{survey.name}/{unit.folder}" if unit.folder else survey.name
    languages = " and ".join(language.capitalize() for language in unit.languages) or "shared by all parts"
    console.result(f"{console.styled(name, 'strong', out=True)}  {languages}")
    for file in settled.files:
        mine = [one for one in settled.settings if one.file in file.file.paths]
        if not mine and file.file.template is None and file.file.current is None:
            continue
        console.result(f"  {_file_words(file)}")
        _table(console, settled, mine)
    if not settled.settings:
        console.result("  no settings: there is no template, and the code reads nothing from its environment")
    if settled.constants:
        console.result("\n  in source files (to change one, edit that line; Plainfall does not):")
        for result in settled.constants:
            text = f"{result.name} = {result.value}"
            console.result(f"    {text:<44} {result.kind:<8} {result.place}")
    console.result()


def _file_words(file: Any) -> str:
    one = file.file
    known = [f"from {one.template_path}"] if one.template_path else []
    known += [f"loaded at {one.loaded}"] if one.loaded else []
    if one.tracked is not None:
        known.insert(0, f"over {one.tracked_path}, which version control tracks and Plainfall does not write")
    if one.current is None:
        state = "does not exist yet; plainfall onboard makes it" if file.changed else "is not needed"
    else:
        state = "lacks something; plainfall onboard completes it" if file.changed else "is complete"
    return f"{one.target} {state}" + (f" ({'; '.join(known)})" if known else "")


def _table(console: Console, settled: Settled, mine: Sequence[Setting]) -> None:
    from rich.table import Table
    from rich.text import Text

    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim", show_edge=False)
    for heading, ratio in (
        ("KEY", 24),
        ("VALUE", 24),
        ("WHERE IT IS FROM", 32),
        ("WITHOUT IT", 10),
        ("READ AT", 26),
    ):
        table.add_column(heading, overflow="fold", ratio=ratio, no_wrap=False)
    for one in mine[:_MOST_ROWS]:
        style = {"open": "bold yellow", "generated": "green", "matched": "cyan"}.get(one.origin, "")
        table.add_row(
            Text(visible(one.key), style="bold" if one.needed else ""),
            Text(visible(_value(one, settled))),
            Text(visible(_origin(one)), style=style),
            Text(
                "stops" if one.needed else ("starts" if one.uses else "not read"),
                style="bold" if one.needed else "dim",
            ),
            Text(visible(_readers(one)), style="dim"),
        )
    out = console.terminal(console.out)
    with out.capture() as captured:
        out.print(table, width=console.width - 4)
    if len(mine) > _MOST_ROWS:
        console.note(f"    and {len(mine) - _MOST_ROWS:,} more; --json has them all")
    for line in captured.get().rstrip("\n").split("\n"):
        console.log_line("    ", line.rstrip())


def _value(one: Setting, settled: Settled) -> str:
    file = next(file for file in settled.files if one.file in file.file.paths)
    existing = file.file.current is not None and one.key in file.file.current.values()
    if one.origin == "generated" and not existing:
        return "(made by onboard)"
    if one.origin == "open" and one.value:
        return "(placeholder)"
    if one.value == "":
        return "-" if one.origin in _OUTSIDE_THE_FILE else "(empty)"
    return shown_value(one.value, one.secret)


def _origin(one: Setting) -> str:
    words = "optional, left empty" if one.origin == "optional" else ORIGINS[one.origin]
    if one.origin == "open":
        words = "open: only you know it" if one.needed or one.uses else "open"
    if one.origin in ("matched", "code default", "team") or (
        one.origin == "given" and one.evidence.path[:1] == "$"
    ):
        words = f"{words.split(' to another')[0]}: {one.evidence}"
    elif one.origin == "template":
        words = f"template, line {one.evidence.line}" if one.evidence.line else words
    return f"{words}; {one.note}" if one.note else words


def _readers(one: Setting) -> str:
    places = [str(use.place) for use in sorted(one.uses, key=lambda use: not use.needed)]
    shown = "\n".join(places[:3])
    return f"{shown}\nand {len(places) - 3} more" if len(places) > 3 else shown
