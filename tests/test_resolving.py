"""Resolving: every requirement of what is chosen holds, or the refusal is true and in the project's words."""

from __future__ import annotations

import itertools
import sys
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest
from conftest import PYTHON_LINE, Machine, package
from hypothesis import given
from hypothesis import strategies as st
from packaging.requirements import Requirement
from packaging.version import Version

from plainfall.ecosystems.python.lists.manifests import requirement_at
from plainfall.ecosystems.python.lists.pins import Target
from plainfall.ecosystems.python.resolve.finding import Finder
from plainfall.ecosystems.python.resolve.metadata import Metadata
from plainfall.ecosystems.python.resolve.resolving import Direct, resolve
from plainfall.ecosystems.python.resolve.simple import IndexFile
from plainfall.ecosystems.python.runtime.interpreters import interpreter_at
from plainfall.errors import DependencyProblem
from plainfall.evidence import Evidence
from plainfall.standins.registry import Archive, Faults, Registry

Offer = Callable[..., Registry]
ME = interpreter_at(Path(sys.executable))
TARGET = Target(ME.facts["markers"])

NAMES = ["ash", "birch", "cedar", "dogwood"]
VERSIONS = ["1.0", "1.5", "2.0", "3.0b1"]
Universe = dict[str, dict[str, list[str]]]


@dataclass
class Shelf:
    """An index in memory, in the shape of a finder; nothing is fetched."""

    universe: Universe

    def prefetch(self, names: list[str]) -> None:
        """Nothing to wait for."""

    def offered(self, name: str) -> list[IndexFile]:
        return [IndexFile(f"{name}-{v}-py3-none-any.whl", f"{name} {v}") for v in self.universe.get(name, {})]

    def versions(self, name: str) -> dict[Version, list[IndexFile]]:
        return {Version(f.url.split()[1]): [f] for f in self.offered(name)}

    def best(self, files: list[IndexFile]) -> IndexFile:
        return files[0]

    def unknown(self, name: str, place: Evidence | None, said: list[str]) -> DependencyProblem:
        return DependencyProblem(f"no source offers a package named {name}", place=place, lines=tuple(said))

    def of(self, file: IndexFile) -> Metadata:
        name, version = file.url.split()
        return Metadata(tuple(Requirement(text) for text in self.universe[name][version]))


def solve(universe: Universe, wishes: list[str], **more: object) -> dict[str, str]:
    shelf = Shelf(universe)
    lines = [requirement_at(text, Evidence("requirements.txt", n, text)) for n, text in enumerate(wishes, 1)]
    lines = [line for line in lines if line.requirement and TARGET.holds(line.requirement.marker)]
    found = resolve(lines, (), {}, shelf, shelf, TARGET, **more)  # type: ignore[arg-type]
    return {one.name: one.version for one in found}


def active(requirement: Requirement, extra: str) -> bool:
    return requirement.marker is None or requirement.marker.evaluate({**TARGET.markers, "extra": extra})


def holds(universe: Universe, wishes: list[str], chosen: dict[str, str]) -> bool:
    """Whether a set satisfies the wishes and all that its members require, extras included."""
    waiting = [Requirement(text) for text in wishes if active(Requirement(text), "")]
    seen: set[tuple[str, str]] = set()
    while waiting:
        requirement = waiting.pop()
        version = chosen.get(requirement.name)
        if version is None or not requirement.specifier.contains(version, prereleases=True):
            return False
        for extra in ("", *requirement.extras):
            if (requirement.name, extra) not in seen:
                seen.add((requirement.name, extra))
                inner = [Requirement(text) for text in universe[requirement.name][version]]
                waiting += [r for r in inner if active(r, extra)]
    return True


SPECIFIERS = st.sampled_from(["", "==1.0", ">=1.5", "<2", "!=1.5", ">=1,<2.5", "~=1.0", ">=3.0b1", "==2.*"])
MARKERS = st.sampled_from(["", "", "", " ; python_version >= '3'", " ; sys_platform == 'win32'"])


@st.composite
def requirements(draw: st.DrawFn, conditional: bool = False) -> str:
    name, specifier = draw(st.sampled_from(NAMES)), draw(SPECIFIERS)
    extra = draw(st.sampled_from(["", "", "[fast]"]))
    marker = draw(MARKERS)
    if conditional and not marker and draw(st.booleans()):
        marker = " ; extra == 'fast'"
    return f"{name}{extra}{specifier}{marker}"


UNIVERSES = st.fixed_dictionaries(
    {
        name: st.dictionaries(
            st.sampled_from(VERSIONS), st.lists(requirements(conditional=True), max_size=2), min_size=1
        )
        for name in NAMES
    }
)


@given(UNIVERSES, st.lists(requirements(), min_size=1, max_size=3))
def test_every_constraint_holds_or_the_refusal_is_true(universe: Universe, wishes: list[str]) -> None:
    try:
        chosen = solve(universe, wishes, prereleases=True)
    except DependencyProblem as problem:
        assert problem.lines and "wants" in "".join(problem.lines)
        versions = [[None, *universe[name]] for name in NAMES]
        for combination in itertools.product(*versions):
            candidate = {n: v for n, v in zip(NAMES, combination, strict=True) if v is not None}
            assert not holds(universe, wishes, candidate), f"{candidate} would do"
        return
    assert holds(universe, wishes, chosen)
    for name in chosen:
        assert not holds(universe, wishes, {n: v for n, v in chosen.items() if n != name}), (
            f"{name} is in vain"
        )


def test_what_only_a_version_that_was_given_up_needed_is_not_taken() -> None:
    """Also where it needs itself, as a package does whose extra names another extra of its own."""
    universe: Universe = {
        "ash": {"2.0": []},
        "birch": {"1.0": ["ash>=1.5", "birch[fast]==1.0"]},
        "dogwood": {"2.0": ["dogwood[fast]==1.0", "birch"], "1.0": []},
    }
    assert solve(universe, ["dogwood!=1.5"]) == {"dogwood": "1.0"}
    assert solve(universe, ["dogwood!=1.5", "birch"]) == {"ash": "2.0", "birch": "1.0", "dogwood": "1.0"}


def test_the_newest_is_taken_and_a_pre_release_only_where_nothing_else_is() -> None:
    universe: Universe = {"ash": {"1.0": [], "2.0": [], "3.0b1": []}, "birch": {"1.0b1": []}}
    assert solve(universe, ["ash", "birch"]) == {"ash": "2.0", "birch": "1.0b1"}
    assert solve(universe, ["ash>=3.0b1"]) == {"ash": "3.0b1"}


def test_what_would_rather_be_taken_is_where_there_is_a_choice() -> None:
    universe: Universe = {"ash": {"1.0": [], "1.5": [], "2.0": ["birch"]}, "birch": {"1.0": [], "2.0": []}}
    assert solve(universe, ["ash"], rather=["ash<2"]) == {"ash": "1.5"}
    assert solve(universe, ["ash>=2"], rather=["ash<2", "birch==1.0"]) == {"ash": "2.0", "birch": "1.0"}
    assert solve(universe, ["ash"], rather=["ash==7.0"])["ash"] == "2.0"


def test_an_older_one_is_taken_where_the_newest_clashes() -> None:
    universe: Universe = {
        "ash": {"2.0": ["cedar>=2"], "1.0": ["cedar"]},
        "birch": {"1.0": ["cedar<2"]},
        "cedar": {"1.0": [], "2.0": []},
    }
    assert solve(universe, ["ash", "birch"]) == {"ash": "1.0", "birch": "1.0", "cedar": "1.0"}


def test_a_conflict_is_told_in_the_projects_own_lines() -> None:
    universe: Universe = {"ash": {"1.0": ["cedar>=2"]}, "cedar": {"1.0": [], "2.0": []}}
    with pytest.raises(DependencyProblem) as caught:
        solve(universe, ["ash", "cedar<2"])
    assert caught.value.cause == "no version of cedar satisfies all that is asked of it"
    assert "requirements.txt:2 wants cedar<2" in caught.value.lines
    assert "ash 1.0 wants cedar>=2" in caught.value.lines
    assert "--instead cedar==VERSION" in caught.value.remedy
    assert solve(universe, ["ash", "cedar<2"], instead={"cedar": "2.0"}) == {"ash": "1.0", "cedar": "2.0"}


def onboard(machine: Machine, text: str, *words: str) -> tuple[Path, list[str], str]:
    clone = machine.clone({"requirements.txt": text, ".python-version": PYTHON_LINE, "app.py": ""})
    run = machine.run("onboard", clone, "--until", "dependencies", "--json", *words)
    laid = run.step("dependencies")["detail"].get("laid", []) if run.status == 0 else []
    return clone, laid, run.err


@pytest.fixture
def shelf(offer: Offer) -> Iterator[Registry]:
    number = int(PYTHON_LINE.split(".")[1])
    built = [
        package("ash", "1.0", requires=("birch>=1",)),
        package("ash", "2.0", requires=("birch>=2", "cedar ; extra == 'fast'")),
        package("birch", "1.0"),
        package("birch", "2.0"),
        package("birch", "3.0", requires_python=f">=3.{number + 1}"),
        package("cedar", "1.0"),
    ]
    archives = [Archive.of(one) for one in built]
    bad = package("birch", "2.5")
    yield offer([*archives, Archive("birch", bad.filename, bad.content, bad.metadata, yanked="broken")])


def test_a_list_with_few_pins_is_completed_and_the_result_is_kept(machine: Machine, shelf: Registry) -> None:
    clone, laid, said = onboard(machine, "ash[fast]\n")
    assert laid == ["ash 2.0", "birch 2.0", "cedar 1.0"], said
    kept = clone / ".plainfall/locks/top/pylock.toml"
    assert 'name = "birch"' in kept.read_text() and not (clone / "pylock.toml").exists()
    before = len(shelf.faults.asked)
    import shutil

    shutil.rmtree(clone / ".venv")
    again = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert again.step("dependencies")["detail"]["resolved"] is False
    assert len(shelf.faults.asked) == before  # neither pages nor archives were asked for again
    (clone / "requirements.txt").write_text("ash<2\n")
    changed = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert changed.step("dependencies")["detail"]["laid"] == ["ash 1.0"]
    assert changed.step("dependencies")["detail"]["taken_out"] == ["cedar 1.0"]


def test_the_lock_goes_into_the_clone_on_request(machine: Machine, shelf: Registry) -> None:
    clone, laid, said = onboard(machine, "ash\n", "--keep-lock")
    assert len(laid) == 2 and (clone / "pylock.toml").exists(), said
    again = machine.run("survey", clone, "--json").document["parts"][0]["dependencies"]
    assert again["list"] == "pylock.toml" and again["others"] == ["requirements.txt"]


@pytest.mark.parametrize("metadata", [True, False])
@pytest.mark.parametrize("ranges", [True, False])
def test_metadata_is_read_without_fetching_archives(
    machine: Machine, offer: Offer, metadata: bool, ranges: bool
) -> None:
    import os

    big = package("ash", "1.0", requires=("birch",), members={"ash/table.bin": os.urandom(300_000)})
    old = package("ash", "0.9", requires=("cedar",), members={"ash/table.bin": os.urandom(300_000)})
    faults = Faults(metadata=metadata, ranges=ranges)
    registry = offer([Archive.of(one) for one in (big, old, package("birch"))], faults)
    _, laid, said = onboard(machine, "ash\n")
    assert laid == ["ash 1.0", "birch 1.0"], said
    assert f"/files/{old.filename}" not in registry.faults.asked


def test_a_limit_file_and_an_impossible_limit(machine: Machine, shelf: Registry) -> None:
    clone = machine.clone({"limits.txt": "birch<2\n"})
    assert clone.exists()
    _, laid, said = onboard(machine, "-c limits.txt\nash\n")
    assert laid == ["ash 1.0", "birch 1.0"], said
    _, _, said = onboard(machine, "-c limits.txt\nash>=2\n")
    assert "no version of birch" in said and "limits.txt:1 limits it to birch<2" in said


def test_a_pin_that_this_python_cannot_have_names_the_nearest(machine: Machine, shelf: Registry) -> None:
    built = package("birch", "3.0", requires_python=f">=3.{int(PYTHON_LINE.split('.')[1]) + 1}")
    _, _, said = onboard(machine, f"birch==3.0 --hash=sha256:{built.sha256}\n")
    text = " ".join(said.split())
    assert "no archive of birch 3.0 fits" in text and "--instead birch==2" in text
    clone, laid, said = onboard(
        machine, f"birch==3.0 --hash=sha256:{built.sha256}\n", "--instead", "birch==2.0"
    )
    assert laid == ["birch 2.0"], said
    kept = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert kept.states["dependencies"] == "kept"
    assert (clone / "requirements.txt").read_text().startswith("birch==3.0")


def test_an_unknown_package_is_named_with_its_line(machine: Machine, shelf: Registry) -> None:
    _, _, said = onboard(machine, "ash\nno-such-thing\n")
    assert "requirements.txt:2: no source offers a package named no-such-thing" in said


def test_the_finder_puts_withdrawn_files_last(machine: Machine, shelf: Registry) -> None:
    assert onboard(machine, "birch\n")[1] == ["birch 2.0"]
    assert onboard(machine, "birch==2.5\n")[1] == ["birch 2.5"]
    assert Finder is not None


def test_a_reference_whose_build_gives_no_version_is_taken_all_the_same() -> None:
    """Old build tools let a version such as "DEV" stand, which no specifier can name."""
    shelf = Shelf({"ash": {"1.0": [], "2.0": []}})
    own = requirement_at("desk", Evidence("pyproject.toml", 1, "desk"))
    direct = Direct("desk", "DEV", (Requirement("ash<2"),), Evidence("pyproject.toml", 1))
    found = resolve([own], (), {0: direct}, shelf, shelf, TARGET)  # type: ignore[arg-type]
    assert {one.name: one.version for one in found if one.direct is None} == {"ash": "1.0"}
    assert [one.direct for one in found if one.name == "desk"] == [direct]
