"""Real Node frameworks, from packages that ``.ci/run`` fetched: a bundler with a React page, a plain server with a
query builder and SQLite."""

from __future__ import annotations

import os
import shutil
import sqlite3
import urllib.request
from collections.abc import Iterator
from pathlib import Path

import pytest
from conftest import Machine
from hands import same_pages_by_hand
from real_node_clones import CLONES

from plainfall.standins.node_registry import NodeArchive, archives_below, serving_node

_FOLDER = os.environ.get("PLAINFALL_REAL_NODE_PACKAGES", "")
pytestmark = [
    pytest.mark.real,
    pytest.mark.skipif(not _FOLDER, reason="PLAINFALL_REAL_NODE_PACKAGES names no folder of packages"),
]


@pytest.fixture(scope="module")
def archives() -> list[NodeArchive]:
    return archives_below(Path(_FOLDER), read_manifests=True)


@pytest.fixture
def real(machine: Machine, archives: list[NodeArchive]) -> Iterator[Machine]:
    machine.variables["PATH"] += os.pathsep + str(Path(shutil.which("node") or "").parent)
    with serving_node(archives) as registry:
        machine.variables["npm_config_registry"] = registry.url
        yield machine


def test_a_bundler_with_a_react_page(real: Machine) -> None:
    clone = real.clone(CLONES["bundled"])
    run = real.run("onboard", clone, "--json", timeout=120)
    assert run.status == 0, run.out
    [server] = run.document["servers"]
    assert server["probe"]["title"] == "Rain board"
    script = urllib.request.urlopen(server["url"] + "src/main.js", timeout=20).read().decode()
    assert "/node_modules/.vite/deps/react" in script and '"VITE_TITLE": "Lower Valley"' in script
    again = real.run("onboard", clone, "--json")
    assert set(again.states.values()) == {"kept"}


def test_by_hand_a_fresh_clone_comes_to_the_same_page(real: Machine, tmp_path: Path) -> None:
    clone = real.clone(CLONES["bundled"])
    assert real.run("onboard", clone, "--port", "8715", timeout=120).status == 0
    same_pages_by_hand(real, clone, tmp_path)


def test_a_query_builder_with_a_native_add_on(real: Machine) -> None:
    clone = real.clone(CLONES["queries"])
    refused = real.run("onboard", clone, "--until", "dependencies", timeout=120)
    assert "better-sqlite3 (install:" in " ".join(refused.err.split())
    run = real.run("onboard", clone, "--allow-install-code", "better-sqlite3", "--json", timeout=400)
    assert run.status == 0, run.out
    assert run.states["migrations"] == run.states["seeds"] == "done"
    with sqlite3.connect(clone / "gauges.sqlite3") as database:
        assert database.execute("SELECT station FROM readings").fetchall() == [("Kelby Weir",)]
    assert run.document["servers"][0]["probe"]["title"] == "Gauges"
