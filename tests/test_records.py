"""What is kept of a clone between runs: typed, versioned, and never a reason to stop."""

from __future__ import annotations

import json
from typing import Any

import pytest
from conftest import SERVER, Machine, resealed

from plainfall.kept_records import (
    DataStep,
    Installed,
    LeftBehind,
    NotBuilt,
    ProcessKept,
    Record,
    ServiceKept,
    as_stored,
    read_stored,
)
from plainfall.onboarding.part.decisions import Decisions, DecisionsKept, PackageAdded

KINDS = sorted({*Record.__subclasses__(), *ProcessKept.__subclasses__()}, key=lambda kind: kind.__name__)
JUNK: list[Any] = [None, 3, "text", [], {"record_version": 99}, {"record_version": "1"}]


@pytest.mark.parametrize("kind", KINDS, ids=lambda kind: kind.__name__)
def test_a_record_without_values_comes_back_and_junk_does_not(kind: type[Record]) -> None:
    stored = json.loads(json.dumps(as_stored(kind())))
    assert stored["record_version"] == kind.VERSION and read_stored(stored, kind) == kind()
    assert all(read_stored(row, kind) is None for row in JUNK)
    wrong: dict[str, Any] = {name: {"a": [{}]} for name in kind.__struct_fields__}
    assert read_stored(wrong, kind) is None


@pytest.mark.parametrize(
    "record",
    [
        Installed(names=("bottle 1.0",), layout={"lib": ["bottle.py"]}, not_built=NotBuilt("no compiler")),
        DataStep(
            database="/clone/gauges.db", inode=(1, 2), rows={"stations": 3}, servers=("postgres a",), files=()
        ),
        LeftBehind(paths={"tmp/a": 1}, spans=((1, 2),), open=(3, ("a", "b")), patterns=(("*.log",), ())),
        ServiceKept(kind="redis", port=6379, identity=(1, 2), running=ProcessKept(pid=7, others=((8, 1.5),))),
        DecisionsKept(
            team="x",
            decisions=Decisions(extras=("maps",), packages=(PackageAdded("bottle>=1", "setup.cfg", 3),)),
        ),
    ],
    ids=lambda record: type(record).__name__,
)
def test_a_record_comes_back_whole(record: Record) -> None:
    assert read_stored(json.loads(json.dumps(as_stored(record))), type(record)) == record


def test_a_run_goes_on_whatever_an_earlier_release_has_kept(machine: Machine) -> None:
    clone = machine.clone({"requirements.txt": "", "app.py": SERVER})
    first = machine.run("onboard", clone, "--json")
    assert first.document["outcome"] == "done", first.document["failure"]
    machine.run("stop", clone)

    def spoiled(content: dict[str, Any]) -> dict[str, Any]:
        for number, name in enumerate(content["records"]):
            content["records"][name] = JUNK[number % len(JUNK)]
        for table in ("servers", "services", "second processes", "made"):
            content.setdefault(table, {})["web"] = {"pid": "none", "kind": 3}
        return content

    resealed(machine, clone, ".plainfall/state.json", "state.json", spoiled)
    for words in (
        ("onboard", "--json"),
        ("settings",),
        ("serve", "--list"),
        ("clear", "--preview"),
        ("stop",),
    ):
        run = machine.run(words[0], *([] if "--list" in words else [clone]), *words[1:])
        assert "Traceback" not in run.err and "internal error" not in run.err, (words, run.err)
        if words[0] == "onboard":
            assert run.document["outcome"] == "done", run.document["failure"]
