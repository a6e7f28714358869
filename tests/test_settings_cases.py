"""Small clones with a template and code, and the table that ``settings`` must show for each of them."""

from __future__ import annotations

import re
from pathlib import Path
from typing import NamedTuple

import pytest
from conftest import Machine

_CASES = Path(__file__).parent / "cases"


class Case(NamedTuple):
    name: str
    files: dict[str, str]
    target: str
    rows: list[tuple[str, str, str, str]]


def cases() -> list[Case]:
    found = []
    for path in sorted(_CASES.glob("settings-*.txt")):
        language = path.stem.removeprefix("settings-")
        for block in re.split(r"^#{8} ", path.read_text(), flags=re.MULTILINE)[1:]:
            title, _, body = block.partition("\n")
            files, target, rows = {}, "", []
            for section in re.split(r"^==== ", body, flags=re.MULTILINE)[1:]:
                name, _, text = section.partition("\n")
                if name.startswith("expected"):
                    target = name.removeprefix("expected").removeprefix(" file").strip()
                    for line in text.splitlines():
                        key, origin, without, places = (piece.strip() for piece in line.split("|"))
                        rows.append((key, origin, without, places))
                else:
                    files[name] = text
            found.append(Case(f"{language}: {title}", files, target, rows))
    return found


@pytest.mark.parametrize("case", cases(), ids=lambda case: case.name)
def test_the_table_is_right_for_every_key(machine: Machine, case: Case) -> None:
    clone = machine.clone(case.files)
    before = sorted(str(path) for path in clone.rglob("*"))
    run = machine.run("settings", clone, "--json")
    assert run.status == 0, run.err
    settings = [setting for part in run.document["parts"] for setting in part["settings"]]
    seen = sorted(
        (
            setting["key"],
            setting["origin"],
            "stops" if setting["needed"] else ("starts" if setting["read_by"] else "-"),
            ", ".join(
                f"{use['evidence'][0]['path']}:{use['evidence'][0]['line']}" for use in setting["read_by"]
            ),
        )
        for setting in settings
    )
    assert seen == sorted(case.rows)
    files = {file["file"] for part in run.document["parts"] for file in part["files"]}
    assert not case.target or case.target in files
    assert sorted(str(path) for path in clone.rglob("*")) == before
