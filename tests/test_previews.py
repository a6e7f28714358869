"""What a preview says is what a run does, whatever clone it is, up to each stage, the first time and after
edits."""

from __future__ import annotations

import os
import random
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import SERVER, Machine, locked, package

from plainfall.standins.registry import Archive, Registry

STAGES = "runtime environment dependencies settings migrations seeds server probe".split()
# What a step that a preview foresees may come to: what only its own program knows, nobody foresees.
MAY_BECOME = {
    "to do": {"done", "failed", "left out"},
    "kept": {"kept"},
    "left out": {"left out"},
    "failed": {"failed"},
    "waiting": {"waiting"},
}
MIGRATE = (
    "import sqlite3\nd = sqlite3.connect('gauges.db')\nd.execute('create table if not exists reading (mm)')\n"
    "d.execute('insert into reading values (1)') if {seed} else None\nd.commit()\n"
)
LISTS = {
    "none": None,
    "empty": "",
    "comment": "# nothing yet\n",
    "pinned": "gaugekit==1.0\n",
    "hashed": locked(package()),
    "open": "gaugekit\n",
    "unknown": "no-such-kit==9\n",
    "broken": "gaugekit===\n",
}
TEMPLATES = {
    "none": None,
    "plain": "STATION=ferry-hill\nPORT=8123\n",
    "open": "STATION=ferry-hill\nRIVER_TOKEN=\n",
    "secret": "SECRET_KEY=change-me\nSTATION=mill\n",
}
SERVERS = {
    "serves": SERVER,
    "reads": "import os\nTOKEN = os.environ['RIVER_TOKEN']\n" + SERVER,
    "ends": "raise SystemExit('no gauges')\n",
    "syntax": "def (:\n",
    "none": None,
}


def files_of(draw: random.Random) -> dict[str, str]:
    """A clone as it may come: its list, its template, what fills its database, its server."""
    found = {
        "requirements.txt": draw.choice([*LISTS.values()]),
        ".env.example": draw.choice([*TEMPLATES.values()]),
        "app.py": draw.choice([*SERVERS.values(), SERVER, SERVER]),
        "README.md": draw.choice(
            [None, "# Rain\n\n## Set-up\n\n    python migrate.py\n    python seed.py\n    python app.py\n"]
        ),
        "migrate.py": MIGRATE.format(seed=0),
        "seed.py": MIGRATE.format(seed=1),
    }
    return {name: text for name, text in found.items() if text is not None}


def edit(draw: random.Random, clone: Path) -> None:
    """One thing that a person does between two runs."""
    name = draw.choice(["requirements.txt", ".env.example", "app.py", "README.md", ".venv", "nothing"])
    place = clone / name
    if name == ".venv":
        shutil.rmtree(place, ignore_errors=True)
    elif name == "requirements.txt":
        place.write_text(draw.choice([text for text in LISTS.values() if text is not None]))
    elif name != "nothing" and place.exists():
        place.write_text(place.read_text() + draw.choice(["\n# seen\n", "\nWEIR=1\n"]))


def states(run: Any) -> list[tuple[str, str]]:
    return [(one["stage"], one["state"]) for one in run.document["steps"]]


def laid_out(clone: Path) -> list[tuple[str, int]]:
    return sorted((str(path), path.lstat().st_mtime_ns) for path in clone.rglob("*"))


NUMBERS = range(40 if os.environ.get("PLAINFALL_GENERATED") else 8)


@pytest.mark.parametrize("number", NUMBERS)
def test_a_run_does_what_its_preview_said(
    machine: Machine, offer: Callable[..., Registry], number: int
) -> None:
    offer([Archive.of(package()), Archive.of(package(version="1.1"))])
    draw = random.Random(f"preview {number}")
    clone = machine.clone(files_of(draw))
    for _ in range(3):
        # A port of its own: another test could take the usual one between the two, and the settings name it.
        until = ["--port", 21_300 + number]
        until += ["--until", draw.choice(STAGES)] if draw.random() < 0.5 else []
        before = laid_out(clone)
        told = machine.run("onboard", clone, "--preview", "--json", *until)
        assert laid_out(clone) == before, "a preview changed the clone"
        done = machine.run("onboard", clone, "--json", "--no-attempts", *until)
        if not told.document or "steps" not in told.document:
            assert done.status == told.status, (told.err, done.err)  # nothing was planned
        else:
            compare(told, done)
        machine.run("stop", clone)
        edit(draw, clone)


def compare(told: Any, done: Any) -> None:
    """Each step came to what was foreseen; behind one whose own program failed the rest waits."""
    shown = f"{states(told)}\n{states(done)}\n{done.document.get('failure')}"
    assert [stage for stage, _ in states(told)] == [stage for stage, _ in states(done)], shown
    failed = False
    for (_, foreseen), (_, came) in zip(states(told), states(done), strict=True):
        assert came == "waiting" if failed else came in MAY_BECOME[foreseen], shown
        failed = failed or came == "failed"
    if not failed:
        assert done.status == told.status, shown
