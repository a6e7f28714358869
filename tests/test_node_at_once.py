"""Many packages, several processes, several clones, a stop in the middle: what is there stays whole."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any

import pytest
from conftest import Machine, resealed
from node_clones import lock, package_json

from plainfall.standins.node_registry import node_archive

WORDS = node_archive("gauge-words", "2.1.0", {f"lib/{n}.js": f"exports.n = {n};\n" for n in range(60)})
UNITS = node_archive("@rain/units", "1.0.0")
MANY = [node_archive(f"gauge-{number}") for number in range(70)]


def _files() -> dict[str, str]:
    """A clone in which every package has the same other one below it."""
    entry = {"version": WORDS.version, "integrity": WORDS.integrity}
    nested = {f"node_modules/{one.name}/node_modules/{WORDS.name}": entry for one in MANY}
    return {"package.json": package_json(MANY), "package-lock.json": lock(MANY, more=nested)}


def _laid(clone: Path) -> dict[str, int]:
    """Every file's inode, but for Plainfall's own note."""
    root = clone / "node_modules"
    files = (path for path in root.rglob("*") if path.is_file() and path.name != ".plainfall.json")
    return {path.relative_to(root).as_posix(): path.stat().st_ino for path in files}


@pytest.mark.needs("node")
def test_three_clones_at_once_from_an_empty_cache(machine: Machine, node_registry: Any) -> None:
    registry = node_registry([WORDS, *MANY])
    clones = [machine.clone(_files(), name) for name in ("north", "south", "west")]
    running = [machine.start("onboard", clone, "--until", "dependencies", "--json") for clone in clones]
    for process in running:
        out, err = process.communicate(timeout=120)
        assert process.returncode == 0, out + err
        assert len(json.loads(out)["steps"]) == 3
    trees = [_laid(clone) for clone in clones]
    assert len(trees[0]) == 70 * 2 + 70 * 62
    assert trees[0] == trees[1] == trees[2]  # links to the same files: of two that unpack, one tree stays
    words = {inode for path, inode in trees[0].items() if path.endswith("/gauge-words/lib/7.js")}
    assert len(words) == 1
    cache = Path(machine.variables["PLAINFALL_CACHE"])
    assert not [path for path in (cache / "trees").rglob(".*") if path.name.startswith((".old-", "."))]
    asked = [path for path in registry.asked if path.endswith(".tgz")]
    assert len(asked) >= 71


@pytest.mark.needs("node")
def test_one_clone_gets_each_package_once(machine: Machine, node_registry: Any) -> None:
    registry = node_registry([WORDS, *MANY])
    clone = machine.clone(_files())
    run = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert run.status == 0, run.out + run.err
    asked = [path for path in registry.asked if path.endswith(".tgz")]
    assert len(asked) == len(set(asked)) == 71
    os.unlink(clone / "node_modules/gauge-3/node_modules/gauge-words/lib/7.js")
    again = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert again.status == 0 and (clone / "node_modules/gauge-3/node_modules/gauge-words/lib/7.js").is_file()
    assert again.step("dependencies")["state"] == "done"
    assert [path for path in registry.asked if path.endswith(".tgz")] == asked


@pytest.mark.needs("node")
def test_a_stop_while_packages_are_changed_is_harmless(machine: Machine, node_registry: Any) -> None:
    node_registry([WORDS, UNITS])
    clone = machine.clone(
        {"package.json": package_json([WORDS, UNITS]), "package-lock.json": lock([WORDS, UNITS])}
    )
    machine.run("onboard", clone, "--until", "dependencies")
    mark = "node_modules/.plainfall.json"
    resealed(machine, clone, mark, "node_modules of .", lambda content: {**content, "complete": False})
    (clone / "node_modules/@rain/units/index.js").unlink()
    assert machine.run("onboard", clone, "--until", "dependencies").status == 0
    assert (clone / "node_modules/@rain/units/index.js").is_file()
