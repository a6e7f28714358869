"""A search for versions ends in time in each language, whatever is asked for, and says which file asked."""

from __future__ import annotations

import os
import shlex
import sys
import time
from collections.abc import Mapping, Sequence
from pathlib import Path
from types import SimpleNamespace
from typing import Any, cast

import pytest
from hypothesis import given
from hypothesis import strategies as st
from packaging.specifiers import SpecifierSet
from packaging.version import Version
from test_resolving import solve

from plainfall.ecosystems.php.lists.manifests import Locked
from plainfall.ecosystems.php.resolve.resolving import Machine as Php
from plainfall.ecosystems.php.resolve.resolving import resolve as resolve_php
from plainfall.ecosystems.python.install.wheel_names import wheel_parts
from plainfall.ecosystems.python.resolve.metadata import MetadataSource
from plainfall.ecosystems.python.resolve.offered_versions import OfferedVersions
from plainfall.ecosystems.python.resolve.simple import IndexFile
from plainfall.ecosystems.ruby.resolve.index import Offer
from plainfall.ecosystems.ruby.resolve.resolving import Asked
from plainfall.ecosystems.ruby.resolve.resolving import Machine as Ruby
from plainfall.ecosystems.ruby.resolve.resolving import resolve as resolve_ruby
from plainfall.ecosystems.ruby.resolve.versions import System
from plainfall.errors import CommandFailed, DependencyProblem, RegistryProblem
from plainfall.evidence import Evidence
from plainfall.onboarding.stages.commands import run_command
from plainfall.packages import search_limit
from plainfall.packages.cache import PackageCache
from plainfall.server.process import marked, new_mark

GAUGES, SITES = 9, 8
Universe = dict[str, dict[str, dict[str, str]]]


def more_gauges_than_sites() -> Universe:
    """Each gauge wants a site for itself, and there is one too few: no search by trying comes to an end."""
    wishes: Universe = {
        f"gauge{g}": {f"{s}.0": {f"site{s}": f"{g}.0"} for s in range(1, SITES + 1)}
        for g in range(1, GAUGES + 1)
    }
    return wishes | {f"site{s}": {f"{g}.0": {} for g in range(1, GAUGES + 1)} for s in range(1, SITES + 1)}


def python(universe: Universe, wishes: Sequence[str]) -> None:
    solve(
        {
            name: {version: [f"{n}=={v}" for n, v in needs.items()] for version, needs in versions.items()}
            for name, versions in universe.items()
        },
        [f"{name}>=1" for name in wishes],
    )


def php(universe: Universe, wishes: Sequence[str]) -> None:
    def of(name: str) -> list[Locked]:
        found = []
        for version, needs in universe[name.partition("/")[2]].items():
            requires = {f"rain/{need}": f"{wanted}.0" for need, wanted in needs.items()}
            entry = {"name": name, "version": f"{version}.0", "require": requires}
            found.append(Locked(name, f"{version}.0", f"{version}.0.0", False, entry))
        return found

    offers = SimpleNamespace(lists=lambda: None, prefetch=lambda names: None, of=of, asked=lambda: [])
    document = {"require": {f"rain/{name}": "*" for name in wishes}}
    resolve_php(document, "composer.json", offers, Php("8.2.7", {}))  # type: ignore[arg-type]


def ruby(universe: Universe, wishes: Sequence[str]) -> None:
    def of(name: str, registries: Sequence[str]) -> list[Offer]:
        def offer(version: str, needs: Mapping[str, str]) -> Offer:
            rules = {need: f"= {wanted}" for need, wanted in needs.items()}
            return Offer(name, version, "ruby", rules, ">= 0", ">= 0", "", "https://registry.example/")

        return [offer(version, needs) for version, needs in universe[name].items()]

    offers = SimpleNamespace(
        older=False, registries=["https://registry.example/"], prefetch=lambda n: None, of=of
    )
    asked = [Asked(name, ">= 0", Evidence("Gemfile")) for name in wishes]
    machine = Ruby("3.1.2", "3.3.15", System(), {}, {})
    resolve_ruby(asked, [], "Gemfile", offers, machine)  # type: ignore[arg-type]


@pytest.mark.hostile
@pytest.mark.parametrize(
    ("resolve", "file"), [(python, "requirements.txt"), (php, "composer.json"), (ruby, "Gemfile")]
)
def test_a_search_without_end_is_given_up(
    resolve: object, file: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    assert search_limit.SECONDS <= 5
    monkeypatch.setattr(search_limit, "SECONDS", 0.4)
    universe = more_gauges_than_sites()
    start = time.thread_time()
    with pytest.raises(DependencyProblem) as caught:
        resolve(universe, [name for name in universe if name.startswith("gauge")])  # type: ignore[operator]
    assert time.thread_time() - start < 2
    assert "5 s of processor time" in str(caught.value.cause)
    assert caught.value.place is not None and caught.value.place.path == file


def test_what_a_pair_of_sites_admits_is_found() -> None:
    """The same by hand where there is an answer: as many sites as gauges."""
    universe = {name: rows for name, rows in more_gauges_than_sites().items() if name != f"gauge{GAUGES}"}
    for resolve in (python, php, ruby):
        resolve(universe, [name for name in universe if name.startswith("gauge")])


TEXTS = st.sampled_from(
    "1.0 1.0.0 1.1 1.1.1 2.0a1 2.0b2 2.0rc1 2.0 2.0.post1 2.0+wet 1.0.dev3 3.0 1!1.0 0.9 2 1.0.post2.dev1".split()
)
SPECIFIERS = st.one_of(
    st.tuples(st.sampled_from([">=", "<=", "<", ">", "==", "!=", "~="]), TEXTS)
    .filter(lambda pair: pair[0] in ("==", "!=") or "+" not in pair[1])
    .filter(lambda pair: pair[0] != "~=" or "." in pair[1].partition("!")[2] + pair[1])
    .map("".join),
    st.sampled_from(["==1.*", "!=1.*", "==2.0.*", "", ">=1,<2", ">1.0,!=1.1"]),
)


def valid(text: str) -> bool:
    try:
        SpecifierSet(text)
    except ValueError:
        return False
    return True


@given(
    st.sets(TEXTS.map(Version)), st.lists(SPECIFIERS.filter(valid), max_size=4), st.booleans(), st.sets(TEXTS)
)
def test_versions_are_admitted_as_the_library_admits_them(
    versions: set[Version], specifiers: list[str], prereleases: bool, withdrawn: set[str]
) -> None:
    files = {
        version: [
            IndexFile(
                "r-1.tar.gz", "https://registry.example/r", yanked="" if str(version) in withdrawn else None
            )
        ]
        for version in versions
    }
    whole = SpecifierSet(",".join(text for text in specifiers if text))
    exact = any(spec.operator in ("==", "===") and "*" not in spec.version for spec in whole)
    usable = [version for version in versions if exact or str(version) not in withdrawn]
    expected = sorted(whole.filter(usable, prereleases=True if prereleases else None), reverse=True)
    assert OfferedVersions(files).admitted(specifiers, prereleases=prereleases) == expected


@pytest.mark.hostile
def test_a_name_that_stands_for_thousands_of_tags_is_none() -> None:
    """A page of ten thousand of them was four hundred million tags."""
    many = ".".join("abcdefghijklmnopqrstuvwxyz0123456789")
    start = time.thread_time()
    assert all(wheel_parts(f"rain-{n}-{many}-{many}-{many}.whl") is None for n in range(1000))
    assert time.thread_time() - start < 1
    wide = "rain-1.0-cp310.cp311-abi3.none-manylinux_2_17_x86_64.manylinux2014_x86_64.linux_x86_64.whl"
    assert len(wheel_parts(wide)[3]) == 12  # type: ignore[index]


@pytest.mark.hostile
def test_what_an_archive_says_of_itself_has_an_end(tmp_path: Path) -> None:
    wishes = "".join(f"Requires-Dist: kit{n}\n" for n in range(100_000))
    text = f"Metadata-Version: 2.1\nName: rain\nVersion: 1\n{wishes}"
    cache = PackageCache(tmp_path)
    source = MetadataSource(None, cache, lambda file: text, ())  # type: ignore[arg-type]
    with pytest.raises(RegistryProblem, match=r"rain-1\.tar\.gz says of itself is [\d,]+ characters"):
        source.of(IndexFile("rain-1.tar.gz", "https://registry.example/rain-1.tar.gz"))


def test_a_step_that_nobody_asked_for_is_ended_when_its_time_is_over(tmp_path: Path) -> None:
    log = tmp_path / "tasks.log"
    state = SimpleNamespace(
        log=lambda part, stage: log,
        open_log=lambda part, stage: os.open(log, os.O_CREAT | os.O_WRONLY, 0o600),
        keep_command=lambda mark, command, group="": None,
    )
    fields: dict[str, Any] = {
        "state": state,
        "part": SimpleNamespace(key=""),
        "folder": tmp_path,
        "onboarded": False,
    }
    talk = {"variables": lambda: dict(os.environ), "masked": str, "before_command": list}
    work = cast(
        Any, SimpleNamespace(**fields, **talk, progress=lambda number, total, words: None, clone=tmp_path)
    )
    program = "import time; print('rain', flush=True); time.sleep(600)"
    line, mark = f"{shlex.quote(sys.executable)} -c {shlex.quote(program)}", new_mark()
    with pytest.raises(CommandFailed, match="did not end within 2 s, and was ended") as failure:
        run_command(work, "tasks", line, mark, Evidence("README.md", 1), seconds=2.0)
    assert failure.value.lines == ("rain",) and not marked(mark)
