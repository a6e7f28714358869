"""Which interpreter is taken, and what is said of the others."""

from __future__ import annotations

import os
import sys
from pathlib import Path

import pytest
from conftest import PYTHON_LINE, Machine

from plainfall.ecosystems.python.runtime.interpreters import GRAMMAR, ask_python, unfit
from plainfall.errors import NoFittingRuntime
from plainfall.evidence import Evidence
from plainfall.runtimes.asks import Strength, VersionAsk
from plainfall.runtimes.choice import Choice, choose
from plainfall.runtimes.interpreters import BrokenInterpreter, Interpreter

FACTS = {"venv": True, "threads_free": False, "debug": False, "implementation": "cpython"}


def here(*versions: str) -> list[Interpreter | BrokenInterpreter]:
    return [Interpreter(Path(f"/opt/{v}/python"), Path(f"/opt/{v}/python"), v, FACTS) for v in versions]


def pin(text: str) -> VersionAsk:
    specifier = f"=={text}" if text.count(".") == 2 else f"=={text}.*"
    return VersionAsk(text, specifier, Strength.PIN, "pin file", Evidence(".python-version", 1, text))


def span(text: str) -> VersionAsk:
    return VersionAsk(text, text, Strength.RANGE, "manifest", Evidence("pyproject.toml", 5, text))


def taken(asks: list[VersionAsk], found: list[Interpreter | BrokenInterpreter]) -> Choice:
    return choose("Python", asks, found, GRAMMAR, unfit)


@pytest.mark.parametrize(
    ("asks", "versions", "expected"),
    [
        ([], ["3.11.2", "3.12.1", "3.13.0rc2"], "3.12.1"),
        ([span(">=3.11")], ["3.10.9", "3.11.2", "3.12.1"], "3.12.1"),
        ([span(">=3.10,<3.12")], ["3.12.1", "3.11.2"], "3.11.2"),
        ([pin("3.11"), span(">=3.10")], ["3.12.1", "3.11.2", "3.11.9"], "3.11.9"),
        ([pin("3.11.2")], ["3.11.9", "3.11.2"], "3.11.2"),
        ([span(">=3.13")], ["3.12.1", "3.13.0rc2"], "3.13.0rc2"),
    ],
)
def test_the_best_match_is_taken(asks: list[VersionAsk], versions: list[str], expected: str) -> None:
    assert taken(asks, here(*versions)).taken.version == expected


def test_another_patch_release_of_a_pin_is_taken_and_remarked() -> None:
    choice = taken([pin("3.11.4")], here("3.12.1", "3.11.2"))
    assert choice.taken.version == "3.11.2"
    assert choice.remarks == [
        "3.11.4 (.python-version:1) is not installed; another patch release of the same line is taken"
    ]


def test_each_rejected_one_has_its_reason() -> None:
    found = [*here("3.10.9", "3.11.2", "3.12.1"), BrokenInterpreter(Path("/opt/bad/python"), "no libc")]
    free = Interpreter(Path("/opt/t"), Path("/opt/t"), "3.13.0", {**FACTS, "threads_free": True})
    choice = taken([span(">=3.11")], [*found, free])
    reasons = {(other.path, other.version): other.reason for other in choice.rejected}
    assert reasons["/opt/3.10.9/python", "3.10.9"] == "pyproject.toml:5 asks for >=3.11"
    assert reasons["/opt/3.11.2/python", "3.11.2"] == "fits, but 3.12.1 is newer"
    assert reasons["/opt/bad/python", "?"] == "does not work: no libc"
    assert "free-threaded" in reasons["/opt/t", "3.13.0"]


def test_where_a_pin_is_not_here_the_nearest_that_the_manifest_admits_is_taken() -> None:
    found = here("3.10.4", "3.11.2", "3.12.1")
    for pinned, expected in (("3.14", "3.12.1"), ("3.8", "3.11.2")):
        choice = choose("Python", [pin(pinned), span(">=3.11")], found, GRAMMAR, unfit, near=True)
        assert choice.taken.version == expected
        assert choice.remarks == [
            f"{pinned} (.python-version:1) is not installed; the nearest that >=3.11 (pyproject.toml:5) admits is taken"
        ]
    with pytest.raises(NoFittingRuntime):  # nothing says what else the project can do with
        choose("Python", [pin("3.14")], found, GRAMMAR, unfit, near=True)


def test_none_fits_says_what_is_asked_and_what_is_here() -> None:
    with pytest.raises(NoFittingRuntime) as caught:
        taken([pin("3.14"), span(">=3.11")], here("3.11.2", "3.12.1"))
    assert caught.value.lines[:2] == (
        "asked for: 3.14 (.python-version:1); >=3.11 (pyproject.toml:5)",
        "here: 3.11.2, 3.12.1",
    )


def fake(folder: Path, text: str) -> Path:
    folder.mkdir(parents=True, exist_ok=True)
    file = folder / "python3.99"
    file.write_text(text)
    file.chmod(0o755)
    return file


def test_a_broken_interpreter_is_passed_over_and_said(machine: Machine) -> None:
    fake(machine.home / ".rain/versions/3.99/bin", "#!/bin/sh\necho 'no such library' >&2\nexit 127\n")
    clone = machine.clone({"app.py": ""})
    run = machine.run("survey", clone, "--json")
    candidates = run.document["parts"][0]["runtime"]["candidates"]
    [broken] = [c for c in candidates if c["path"].endswith("python3.99")]
    assert broken["reason"] == "does not work: no such library"


def test_a_folder_of_commands_that_cannot_be_looked_into_has_none(machine: Machine) -> None:
    closed = machine.home / "closed/inner"
    closed.mkdir(parents=True)
    closed.parent.chmod(0)  # which keeps out ordinary users; a name that is too long, everybody
    too_long = f"/{'x' * 300}/shims"
    machine.variables["PATH"] += os.pathsep + os.pathsep.join([str(closed / "shims"), too_long])
    run = machine.run("survey", machine.clone({"app.py": ""}))
    closed.parent.chmod(0o755)
    assert run.status == 0, run.err


def test_an_interpreter_is_asked_once_and_again_when_its_file_changes(machine: Machine) -> None:
    place = machine.home / ".rain/versions/3.99/bin"
    fake(place, f"#!/bin/sh\necho asked >> {machine.home}/asked\nexit 1\n")
    clone = machine.clone({"app.py": ""})
    for _ in range(2):
        machine.run("survey", clone)
    assert (machine.home / "asked").read_text() == "asked\nasked\n"  # a bad answer is not remembered
    asks = f'#!/bin/sh\necho good >> {machine.home}/asked\nexec {sys.executable} "$@"\n'
    fake(place, asks)
    for _ in range(2):
        machine.run("survey", clone)
    assert (machine.home / "asked").read_text() == "asked\nasked\ngood\n"
    fake(place, asks + "\n")
    machine.run("survey", clone)
    assert (machine.home / "asked").read_text() == "asked\nasked\ngood\ngood\n"


def test_an_interpreter_can_be_named_against_the_asks(machine: Machine) -> None:
    clone = machine.clone({"app.py": "", ".python-version": "3.99\n"})
    refused = machine.run("onboard", clone, "--until", "runtime")
    assert refused.status == 1 and "no Python here fits" in refused.err and "3.99" in refused.err
    run = machine.run("onboard", clone, "--until", "runtime", "--runtime", sys.executable, "--json")
    assert run.status == 0 and "3.99" in run.step("runtime")["remarks"][0]


def test_a_pin_file_that_holds_no_version_names_its_line(machine: Machine) -> None:
    clone = machine.clone({"app.py": "", ".python-version": "# which?\nlatest\n"})
    run = machine.run("survey", clone)
    assert run.status == 1 and ".python-version:2" in run.err


def test_the_facts_of_this_interpreter() -> None:
    facts = ask_python(Path(sys.executable))
    assert facts["version"].startswith(PYTHON_LINE) and facts["sqlite3"] and facts["bits"] == 64
