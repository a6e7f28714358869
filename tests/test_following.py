"""Following servers: lines as they come, restarts told from circles and from workers, and ends."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from conftest import eventually
from forked import PYTHON
from msgspec.structs import replace

from plainfall.clone.parts import PartFound, SettingsFound
from plainfall.clone.walk import walk
from plainfall.kept_records import ProcessKept
from plainfall.onboarding.run.order import in_order, needs_of
from plainfall.onboarding.uses.serve.following import Follower, Happening
from plainfall.server.process import Running, new_mark, start, stop

# Starts its child anew as often as it is told; the child says a line.
PARENT = """\
import os, subprocess, sys, time
if len(sys.argv) > 2:
    print("child", sys.argv[2], flush=True)
    time.sleep(60)
for number in range(int(sys.argv[1]) + 1):
    child = subprocess.Popen([sys.executable, __file__, "0", str(number)])
    time.sleep(float(os.environ.get("PAUSE", "0.8")))
    if number < int(sys.argv[1]):
        child.kill()
        child.wait()
time.sleep(60)
"""


@pytest.fixture
def started(tmp_path: Path) -> Iterator[Any]:
    runs: list[tuple[Running, Any]] = []

    def begin(program: str, *words: str, **more: str) -> ProcessKept:
        (tmp_path / "main.py").write_text(program)
        command = " ".join(["exec", PYTHON, "main.py", *words])
        variables = {"PATH": os.environ["PATH"], **more}
        running, process = start(command, tmp_path, variables, tmp_path / "log", 9, new_mark())
        runs.append((running, process))
        return replace(running.kept(), port=9)

    yield begin
    for running, process in runs:
        stop(running, process, patience=0.5)


def watched(follower: Follower, seconds: float) -> list[Happening]:
    found: list[Happening] = []
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline and follower.running:
        found += follower.poll()
        time.sleep(0.03)
    return found


def test_lines_come_whole_and_the_end_is_told(started: Any, tmp_path: Path) -> None:
    text = "import sys, time\nsys.stdout.write('first\\nsec')\nsys.stdout.flush()\ntime.sleep(0.7)\nprint('ond')\nprint('last', end='')"
    record = started(text)
    found = watched(Follower({"": record}, {}), 8)
    assert [(one.kind, one.text) for one in found] == [
        ("line", "first"),
        ("line", "second"),
        ("line", "last"),
        ("ended", "its processes have ended"),
    ]


def test_what_was_there_before_may_be_passed_over(started: Any, tmp_path: Path) -> None:
    record = started(
        "import time\nprint('old', flush=True)\ntime.sleep(1.2)\nprint('new', flush=True)\ntime.sleep(9)"
    )
    assert eventually(lambda: "old" in Path(record.log).read_text())
    found = watched(Follower({"": record}, {}, from_end=True), 1.5)
    assert [one.text for one in found if one.kind == "line"] == ["new"]
    # A log that somebody emptied is read from its beginning.
    follower = Follower({"": record}, {}, from_end=True)
    with open(record.log, "w") as log:
        log.write("anew\n")
    assert [one.text for one in follower.poll() if one.kind == "line"] == ["anew"]


def test_a_restart_after_an_edit_names_the_file(started: Any, tmp_path: Path) -> None:
    record = started(PARENT, "1", PAUSE="6")
    assert eventually(lambda: "child 0" in Path(record.log).read_text())
    follower = Follower({"web": record}, {"web": tmp_path})
    found = watched(follower, 3.5)
    (tmp_path / "gauge.py").write_text("x = 1\n")
    found += watched(follower, 8)
    restarts = [one for one in found if one.kind == "restarted"]
    assert len(restarts) == 1 and "after an edit of" in restarts[0].text and restarts[0].part == "web"


def test_a_server_that_starts_again_and_again_goes_round_in_circles(started: Any, tmp_path: Path) -> None:
    record = started(PARENT, "6", PAUSE="1.1")
    assert eventually(lambda: "child 0" in Path(record.log).read_text())
    kinds = [one.kind for one in watched(Follower({"": record}, {}), 9) if one.kind != "line"]
    assert "circle" in kinds and kinds.count("restarted") >= 2


def part(path: str, template: str = "", language: str = "node") -> PartFound:
    from plainfall.evidence import Evidence

    found = (SettingsFound(template, ".env", (), Evidence(template), False),) if template else ()
    return PartFound(path, language, (), templates=found)


def test_parts_come_in_the_order_of_their_needs(tmp_path: Path) -> None:
    files = {
        "a/.env.example": "API=http://localhost:4000\nCORS_ORIGIN=http://localhost:3000\n",
        "b/.env.example": "QUEUE=http://127.0.0.1:5000/\n",
        "c/.env.example": "FRONTEND_URL=http://localhost:3000\n",
        "web/package.json": '{\n"proxy": "http://localhost:4000"}',
    }
    for name, text in files.items():
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_text(text)
    tree = walk(tmp_path)
    parts = [
        part("a", "a/.env.example"),
        part("b", "b/.env.example"),
        part("c", "c/.env.example"),
        part("web"),
    ]
    ports = {"a": 3000, "b": 4000, "c": 5000, "web": 5173}
    needs = needs_of(parts, ports, frozenset({"web"}), tree)
    assert {path: set(found) for path, found in needs.items()} == {
        "a": {"b"}, "b": {"c"}, "c": set(), "web": {"b"},
    }  # fmt: skip
    assert needs["web"]["b"].line == 2
    ordered = in_order(parts, needs, frozenset({"web"}))
    assert [one.path for one in ordered] == ["c", "b", "a", "web"]
    # Those that need each other stay as they stand.
    circle = {"a": {"b": needs["a"]["b"]}, "b": {"a": needs["a"]["b"]}}
    assert [one.path for one in in_order(parts[:2], circle, frozenset())] == ["b", "a"]


def test_what_only_builds_goes_before_the_part_beside_it(tmp_path: Path) -> None:
    own, beside = PartFound("", "python", ()), PartFound("", "node", (), is_secondary=True)
    assert (own.key, beside.key) == ("", "(node)")
    assert [one.language for one in in_order([own, beside], {}, frozenset())] == ["node", "python"]
