"""Other locks of Node clones, resolving without one, and packages' own code."""

from __future__ import annotations

import json
import os
import shutil
from pathlib import Path
from typing import Any

import pytest
from conftest import Machine
from hypothesis import given
from hypothesis import strategies as st

from plainfall.ecosystems.node.lists.locks.pnpm import read_pnpm_lock
from plainfall.ecosystems.node.lists.locks.yarn import read_yarn_lock
from plainfall.ecosystems.node.resolve.graph import GraphPackage, hoisted
from plainfall.errors import BadInput
from plainfall.standins.node_registry import node_archive

WORDS1, WORDS2 = node_archive("words", "1.4.0"), node_archive("words", "2.1.0", {}, bin={"words": "index.js"})
BOARD = node_archive("@rain/board", "3.0.0", {}, dependencies={"words": "^1.0.0"})
SEALS = node_archive("seals", "1.0.0", {}, os=["darwin"])


CLASSIC = f"""\
# yarn lockfile v1


"@rain/board@^3.0.0":
  version "3.0.0"
  resolved "https://registry.example/@rain/board/-/board-3.0.0.tgz#0123"
  integrity {BOARD.integrity}
  dependencies:
    words "^1.0.0"

words@^1.0.0:
  version "1.4.0"
  integrity {WORDS1.integrity}

words@^2.0.0, words@~2.1.0:
  version "2.1.0"
  integrity {WORDS2.integrity}
"""
NEWER = """\
__metadata:
  version: 8

"@rain/board@npm:^3.0.0":
  version: 3.0.0
  resolution: "@rain/board@npm:3.0.0"
  dependencies:
    words: "npm:^1.0.0"
  checksum: 10c0/abc
  languageName: node
  linkType: hard

"board@workspace:.":
  version: 0.0.0-use.local
  resolution: "board@workspace:."
  languageName: unknown
  linkType: soft

"words@npm:^1.0.0":
  version: 1.4.0
  resolution: "words@npm:1.4.0"

"words@npm:^2.0.0":
  version: 2.1.0
  resolution: "words@npm:2.1.0"
"""
PNPM = f"""\
lockfileVersion: '9.0'
importers:
  .:
    dependencies:
      '@rain/board':
        specifier: ^3.0.0
        version: 3.0.0
      words:
        specifier: ^2.0.0
        version: 2.1.0
packages:
  '@rain/board@3.0.0':
    resolution: {{integrity: {BOARD.integrity}}}
  words@1.4.0:
    resolution: {{integrity: {WORDS1.integrity}}}
  words@2.1.0:
    resolution: {{integrity: {WORDS2.integrity}}}
    hasBin: true
snapshots:
  '@rain/board@3.0.0':
    dependencies:
      words: 1.4.0
  words@1.4.0: {{}}
  words@2.1.0: {{}}
"""
OLDER_PNPM = f"""\
lockfileVersion: '6.0'
dependencies:
  '@rain/board':
    specifier: ^3.0.0
    version: 3.0.0(words@2.1.0)
  words:
    specifier: ^2.0.0
    version: 2.1.0
packages:
  /@rain/board@3.0.0(words@2.1.0):
    resolution: {{integrity: {BOARD.integrity}}}
    dependencies:
      words: 1.4.0
  /words@1.4.0:
    resolution: {{integrity: {WORDS1.integrity}}}
  /words@2.1.0:
    resolution: {{integrity: {WORDS2.integrity}}}
"""
OLDEST_PNPM = f"""\
lockfileVersion: 5.4
specifiers:
  '@rain/board': ^3.0.0
  words: ^2.0.0
dependencies:
  '@rain/board': 3.0.0_words@2.1.0
  words: 2.1.0
packages:
  /@rain/board/3.0.0_words@2.1.0:
    resolution: {{integrity: {BOARD.integrity}}}
    dependencies:
      words: 1.4.0
  /words/1.4.0:
    resolution: {{integrity: {WORDS1.integrity}}}
  /words/2.1.0:
    resolution: {{integrity: {WORDS2.integrity}}}
"""
MANIFEST = {"name": "board", "dependencies": {"@rain/board": "^3.0.0", "words": "^2.0.0"}}
PLACES = {
    "node_modules/@rain/board": "3.0.0",
    "node_modules/@rain/board/node_modules/words": "1.4.0",
    "node_modules/words": "2.1.0",
}


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("yarn.lock", CLASSIC),
        ("yarn.lock", NEWER),
        ("pnpm-lock.yaml", PNPM),
        ("pnpm-lock.yaml", OLDER_PNPM),
        ("pnpm-lock.yaml", OLDEST_PNPM),
        ("", ""),
    ],
    ids=["classic", "newer", "pnpm 9", "pnpm 6", "pnpm 5", "resolved"],
)
@pytest.mark.needs("node")
def test_every_kind_of_lock_comes_to_the_same_tree(
    machine: Machine, node_registry: Any, name: str, text: str
) -> None:
    node_registry([WORDS1, WORDS2, BOARD])
    clone = machine.clone({"package.json": json.dumps(MANIFEST), **({name: text} if name else {})})
    run = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert run.status == 0, run.out
    found = {
        str(path.parent.relative_to(clone)): json.loads(path.read_text())["version"]
        for path in clone.rglob("node_modules/**/package.json")
    }
    assert found == PLACES
    assert os.readlink(clone / "node_modules/.bin/words") == "../words/index.js"
    again = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert again.states["dependencies"] == "kept"


@pytest.mark.parametrize(
    ("name", "text", "said"),
    [
        (
            "yarn.lock",
            CLASSIC.replace("words@^1.0.0:", "<<<<<<< HEAD"),
            "yarn.lock:11: '<<<<<<< HEAD' begins no entry",
        ),
        (
            "yarn.lock",
            CLASSIC.replace('  version "1.4.0"\n', ""),
            "yarn.lock:11: words@^1.0.0 has no version",
        ),
        ("pnpm-lock.yaml", "lockfileVersion: '12.0'\n", "pnpm-lock.yaml:1: lock format 12.0 is not known"),
        ("pnpm-lock.yaml", "lockfileVersion: '9.0'\n  x: [\n", "pnpm-lock.yaml:2: it is not YAML"),
    ],
)
def test_damaged_locks_name_their_line(name: str, text: str, said: str) -> None:
    with pytest.raises(BadInput) as caught:
        if name == "yarn.lock":
            read_yarn_lock(text, name, MANIFEST, {})
        else:
            read_pnpm_lock(text, name, {})
    assert str(caught.value).startswith(said) and caught.value.remedy


@pytest.mark.needs("node")
def test_two_locks_that_disagree_are_named(machine: Machine, node_registry: Any) -> None:
    node_registry([WORDS1, WORDS2, BOARD])
    files = {
        "package.json": json.dumps({**MANIFEST, "packageManager": "yarn@1.22.0"}),
        "yarn.lock": CLASSIC,
        "pnpm-lock.yaml": PNPM.replace("version: 2.1.0", "version: 1.4.0"),
    }
    run = machine.run("onboard", machine.clone(files), "--until", "dependencies", "--verbose")
    said = " ".join(run.err.split())
    assert "pnpm-lock.yaml disagrees with yarn.lock: words 1.4.0 (taken: 2.1.0)" in said
    assert "packageManager (yarn) speaks for" in said


@pytest.mark.needs("node")
def test_a_workspace_of_the_clone_is_linked_and_its_wishes_are_met(
    machine: Machine, node_registry: Any
) -> None:
    node_registry([WORDS1, WORDS2, BOARD])
    files = {
        "package.json": json.dumps(
            {
                "name": "all",
                "private": True,
                "workspaces": ["packages/*"],
                "dependencies": {"words": "^2.0.0"},
            }
        ),
        "yarn.lock": CLASSIC,
        "packages/basin/package.json": json.dumps({"name": "basin", "dependencies": {"words": "^1.0.0"}}),
    }
    clone = machine.clone(files)
    assert machine.run("onboard", clone, "--until", "dependencies").status == 0
    assert os.readlink(clone / "node_modules/basin") == "../packages/basin"
    assert (clone / "packages/basin/node_modules/words/index.js").is_file()


@pytest.mark.needs("node")
def test_resolving_keeps_its_result_until_the_manifest_asks_for_something_else(
    machine: Machine, node_registry: Any
) -> None:
    found = node_registry([WORDS1, WORDS2, BOARD])
    clone = machine.clone({"package.json": json.dumps({"dependencies": {"words": "^1.0.0"}})})
    machine.run("onboard", clone, "--until", "dependencies")
    lock = json.loads((clone / ".plainfall/locks/top/package-lock.json").read_text())
    assert lock["packages"]["node_modules/words"]["integrity"] == WORDS1.integrity
    found.asked.clear()
    shutil.rmtree(clone / "node_modules")
    machine.run("onboard", clone, "--until", "dependencies")
    assert found.asked == []
    (clone / "package.json").write_text(json.dumps({"dependencies": {"words": "latest"}}))
    assert machine.run("onboard", clone, "--until", "dependencies").status == 0
    assert "2.1.0" in (clone / "node_modules/words/index.js").read_text()


@pytest.mark.needs("node")
def test_tags_aliases_overrides_and_peers_are_resolved(machine: Machine, node_registry: Any) -> None:
    reader = node_archive(
        "reader", "1.0.0", {}, peerDependencies={"words": ">=1"}, dependencies={"@rain/board": "*"}
    )
    node_registry([WORDS1, WORDS2, BOARD, reader])
    manifest = {
        "dependencies": {"old": "npm:words@^1.0.0", "reader": "latest"},
        "overrides": {"@rain/board": "3.0.0"},
    }
    clone = machine.clone({"package.json": json.dumps(manifest)})
    assert machine.run("onboard", clone, "--until", "dependencies").status == 0
    versions = {
        name: json.loads((clone / "node_modules" / name / "package.json").read_text())["version"]
        for name in ("old", "reader", "words", "@rain/board")
    }
    assert versions == {"old": "1.4.0", "reader": "1.0.0", "words": "1.4.0", "@rain/board": "3.0.0"}


@pytest.mark.needs("node")
def test_a_wish_that_cannot_be_met_names_who_asks(machine: Machine, node_registry: Any) -> None:
    board = node_archive("@rain/board", "4.0.0", {}, dependencies={"words": "^9.0.0"})
    node_registry([WORDS1, board])
    run = machine.run("onboard", machine.clone({"package.json": '{"dependencies": {"@rain/board": "*"}}'}))
    said = " ".join(run.err.split())
    assert run.status == 1 and "no version of words is admitted by ^9.0.0; the registry has 1.4.0" in said
    assert "package.json → @rain/board → words" in said


@pytest.mark.needs("node")
def test_optional_packages_for_other_machines_are_left_out(machine: Machine, node_registry: Any) -> None:
    node_registry([WORDS1, SEALS])
    manifest = {"dependencies": {"words": "^1.0.0"}, "optionalDependencies": {"seals": "1.0.0"}}
    clone = machine.clone({"package.json": json.dumps(manifest)})
    run = machine.run("onboard", clone, "--until", "dependencies", "--verbose")
    assert "1 optional package is for other machines" in " ".join(run.err.split())
    assert not (clone / "node_modules/seals").exists()


@pytest.mark.needs("node")
def test_install_code_runs_only_where_it_is_allowed_and_not_on_shared_files(
    machine: Machine, node_registry: Any
) -> None:
    eager = node_archive(
        "eager", "1.0.0", {}, scripts={"install": "echo $npm_lifecycle_event > made && echo ran >> index.js"}
    )
    node_registry([eager])
    clone = machine.clone({"package.json": '{"dependencies": {"eager": "1.0.0"}}'})
    run = machine.run("onboard", clone, "--until", "dependencies")
    assert (
        "eager (install: echo" in " ".join(run.err.split())
        and not (clone / "node_modules/eager/made").exists()
    )
    allowed = machine.run("onboard", clone, "--until", "dependencies", "--allow-install-code", "eager")
    assert (clone / "node_modules/eager/made").read_text() == "install\n"
    assert "their own code ran: eager (install)" in " ".join(allowed.err.split())
    cached = list(Path(machine.variables["PLAINFALL_CACHE"]).rglob("index.js"))
    assert cached and all("ran" not in path.read_text() for path in cached)
    team = machine.clone(
        {
            "package.json": '{"dependencies": {"eager": "1.0.0"}}',
            "plainfall.toml": '[install]\nallow-code = ["eager"]\n',
        },
        "team",
    )
    assert machine.run("onboard", team, "--until", "dependencies").status == 0
    assert (team / "node_modules/eager/made").is_file()


@pytest.mark.needs("node")
def test_install_code_that_fails_says_which_and_how_it_ended(machine: Machine, node_registry: Any) -> None:
    node_registry([node_archive("sour", "1.0.0", {}, scripts={"postinstall": "echo no compiler; exit 3"})])
    clone = machine.clone({"package.json": '{"dependencies": {"sour": "1.0.0"}}'})
    run = machine.run("onboard", clone, "--allow-install-code", "sour")
    said = " ".join(run.err.split())
    assert run.status == 1 and "the install code of sour (postinstall" in said and "status 3" in said
    assert "no compiler" in said


KEYS = st.sampled_from([f"{name}@{version}" for name in "abcd" for version in "12"])


@given(st.dictionaries(KEYS, st.lists(KEYS, max_size=4)), st.lists(KEYS, max_size=4))
def test_every_package_finds_what_it_needs_wherever_it_is_laid(
    wishes: dict[str, list[str]], root: list[str]
) -> None:
    def needs(keys: list[str]) -> dict[str, str]:
        return {key[0]: key for key in keys}

    graph = {
        key: GraphPackage(key[0], key[2:], needs=needs(wishes.get(key, [])))
        for key in (f"{name}@{version}" for name in "abcd" for version in "12")
    }
    packages = hoisted(graph, {"": needs(root)}, frozenset())
    laid = {one.place: f"{one.name}@{one.version}" for one in packages}

    def found(folder: str, name: str) -> str | None:
        while True:
            place = f"{folder}/node_modules/{name}" if folder else f"node_modules/{name}"
            if place in laid:
                return laid[place]
            if not folder:
                return None
            folder = folder.rpartition("/node_modules/")[0] if "/node_modules/" in folder else ""

    for name, key in needs(root).items():
        assert found("", name) == key
    links = {one.place for one in packages if one.link is not None}
    for place, key in laid.items():
        if place in links:
            continue
        for name, wanted in graph[key].needs.items():
            assert found(place, name) == wanted
