"""Peers in the layout of a lock that knows none: each package finds the version that it works beside."""

from __future__ import annotations

import json
import shutil
import subprocess
from typing import Any

import pytest
from conftest import Machine
from hypothesis import given
from hypothesis import strategies as st
from node_clones import SERVER, lock, package_json

from plainfall.ecosystems.node.lists.locks.package import Package
from plainfall.ecosystems.node.resolve.peers import unmet, with_peers
from plainfall.standins.node_registry import node_archive


def at(place: str, version: str, *needs: str) -> Package:
    return Package(place, place.rpartition("node_modules/")[2], version, needs=needs)


def places(packages: list[Package]) -> dict[str, str]:
    return {one.place: one.version for one in packages}


LAID = [
    at("node_modules/checks", "6.0.0"),
    at("node_modules/old", "1.0.0", "checks"),
    at("node_modules/schemes", "4.0.0", "checks", "words", "units"),
    at("node_modules/schemes/node_modules/checks", "8.0.0"),
    at("node_modules/words", "5.0.0", "units"),
    at("node_modules/units", "1.0.0"),
]
PEERS: dict[str, Any] = {"words": {"peerDependencies": {"checks": "^8.0.0"}}}


def test_a_package_that_finds_a_wrong_peer_is_nested_beside_the_right_one() -> None:
    found = places(with_peers(LAID, ["old", "schemes"], lambda one: PEERS.get(one.name, {})))
    assert found["node_modules/schemes/node_modules/words"] == "5.0.0" and "node_modules/words" not in found
    assert found["node_modules/units"] == "1.0.0"  # it is found from there as well
    # What the part itself asks for stays where the part finds it, too.
    found = places(with_peers(LAID, ["old", "schemes", "words"], lambda one: PEERS.get(one.name, {})))
    assert {"node_modules/words", "node_modules/schemes/node_modules/words"} <= found.keys()


@pytest.mark.parametrize(
    "manifests",
    [
        {},  # nothing is known yet
        {"words": {"peerDependencies": {"checks": "^6.0.0"}}},  # it finds the right one
        {"words": {"peerDependencies": {"checks": "^7.0.0"}}},  # nobody has it
        {"words": {"peerDependencies": {"nowhere": "*"}}},
        {"words": {**PEERS["words"], "peerDependenciesMeta": {"checks": {"optional": True}}}},
    ],
)
def test_a_layout_that_is_right_or_cannot_be_is_left_alone(manifests: dict[str, Any]) -> None:
    assert with_peers(LAID, ["old", "schemes"], lambda one: manifests.get(one.name, {})) == LAID


@pytest.mark.parametrize(
    ("name", "manifest", "wrong"),
    [
        ("words", {"dependencies": {"checks": "*", "units": "*"}}, []),
        ("words", {"dependencies": {"nowhere": "*"}}, [("words", "nowhere", "nothing is found")]),
        ("words", {"dependencies": {"nowhere": "*"}, "optionalDependencies": {"nowhere": "*"}}, []),
        ("words", {"dependencies": {"nowhere": "*"}, "bundleDependencies": ["nowhere"]}, []),
        ("words", {"peerDependencies": {"checks": "^8.0.0"}}, [("words", "checks", "6.0.0")]),
        ("words", {"peerDependencies": {"checks": "^7.0.0"}}, []),  # nobody has it: not ours to mend
        ("old", {"dependencies": {"schemes": "*"}, "peerDependencies": {"checks": "^6.0.0"}}, []),
    ],
)
def test_what_does_not_resolve_as_it_lies_is_named(
    name: str, manifest: dict[str, Any], wrong: list[tuple[str, str, str]]
) -> None:
    found = unmet(LAID, lambda one: manifest if one.name == name else {})
    assert [(one.name, asked, what) for one, asked, what in found] == wrong


def test_what_a_nested_copy_would_miss_comes_along() -> None:
    laid = [*LAID, at("node_modules/schemes/node_modules/units", "2.0.0")]
    found = places(with_peers(laid, [], lambda one: PEERS.get(one.name, {})))
    assert found["node_modules/schemes/node_modules/words/node_modules/units"] == "1.0.0"


@given(
    st.lists(
        st.tuples(st.sampled_from("abcd"), st.sampled_from("abcd"), st.sampled_from(["1.0.0", "2.0.0"])),
        max_size=8,
    )
)
def test_it_comes_to_an_end_and_loses_nothing_that_is_asked_for(rows: list[tuple[str, str, str]]) -> None:
    laid = {
        f"node_modules/{name}": at(f"node_modules/{name}", version, other) for name, other, version in rows
    }
    laid |= {
        f"node_modules/{name}/node_modules/{other}": at(f"node_modules/{name}/node_modules/{other}", "2.0.0")
        for name, other, version in rows
        if version == "1.0.0" and name != other
    }
    manifests = {name: {"peerDependencies": {other: "^2.0.0"}} for name, other, _ in rows}
    found = places(with_peers(list(laid.values()), "abcd", lambda one: manifests.get(one.name, {})))
    assert laid.keys() <= found.keys()


@pytest.mark.skipif(shutil.which("node") is None, reason="no Node here")
@pytest.mark.parametrize("form", ["classic", "newer"])
def test_a_clone_with_a_yarn_lock_runs_beside_the_right_peer(
    machine: Machine, node_registry: Any, form: str
) -> None:
    archives = [
        node_archive("checks", "6.0.0"),
        node_archive("checks", "8.0.0", {"deep.js": "module.exports = 'deep';\n"}),
        node_archive("words", "5.0.0", {"index.js": "module.exports = require('checks/deep.js');\n"},
                     peerDependencies={"checks": "^8.0.0"}),
        node_archive("schemes", "4.0.0", {"index.js": "module.exports = require('words');\n"},
                     dependencies={"checks": "^8.0.0", "words": "^5.0.0"}),
    ]  # fmt: skip
    node_registry(archives)
    newer = "".join(
        f'"{name}@npm:{wish}":\n  version: {one.version}\n  resolution: "{name}@npm:{one.version}"\n{more}\n'
        for one, name, wish, more in (
            (archives[0], "checks", "^6.0.0", ""),
            (archives[1], "checks", "^8.0.0", ""),
            (archives[2], "words", "^5.0.0", '  peerDependencies:\n    checks: ^8.0.0\n'),
            (archives[3], "schemes", "^4.0.0",
             '  dependencies:\n    checks: "npm:^8.0.0"\n    words: "npm:^5.0.0"\n'),
        )
    )  # fmt: skip
    entries = "".join(
        f'{name}@{wish}:\n  version "{one.version}"\n  integrity {one.integrity}\n{more}\n'
        for one, name, wish, more in (
            (archives[0], "checks", "^6.0.0", ""),
            (archives[1], "checks", "^8.0.0", ""),
            (archives[2], "words", "^5.0.0", ""),
            (archives[3], "schemes", "^4.0.0", '  dependencies:\n    checks "^8.0.0"\n    words "^5.0.0"\n'),
        )
    )
    manifest = {"name": "board", "dependencies": {"checks": "^6.0.0", "schemes": "^4.0.0"}}
    clone = machine.clone(
        {
            "package.json": json.dumps(manifest),
            "yarn.lock": f"# yarn lockfile v1\n\n{entries}"
            if form == "classic"
            else f"__metadata:\n  version: 8\n\n{newer}",
        }
    )
    run = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert run.status == 0, run.out
    laid = sorted(run.step("dependencies")["detail"]["laid"])
    assert laid[:2] == ["checks 6.0.0", "checks 8.0.0"]
    assert (
        run.step("dependencies")["detail"]["kept"] == []
    )  # laid in this run, moved once its manifest was there
    done = subprocess.run(
        ["node", "-p", "require('schemes')"], cwd=clone, capture_output=True, text=True, env=machine.variables
    )
    assert done.stdout.strip() == "deep", done.stderr
    assert set(machine.run("onboard", clone, "--until", "dependencies", "--json").states.values()) == {"kept"}
    shutil.rmtree(clone / "node_modules")
    again = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert again.status == 0 and (clone / "node_modules/schemes/node_modules/words/index.js").is_file()


BELL = node_archive(
    "bell",
    "1.0.0",
    {"index.js": "try { module.exports = require('./built.js') } catch (error) {\n"
                 "  throw new Error('Could not locate the bindings file of bell') }\n"},
    scripts={"install": "echo \"module.exports = 'rings'\" > built.js"},
)  # fmt: skip


def belled(machine: Machine) -> Any:
    files = {
        "package.json": package_json([BELL], scripts={"dev": "node server.js"}),
        "package-lock.json": lock([BELL]),
        "server.js": SERVER.replace("gauge-words", "bell"),
    }
    return machine.clone(files)


@pytest.mark.skipif(shutil.which("node") is None, reason="no Node here")
def test_a_package_that_was_not_allowed_to_build_itself_is_named(
    machine: Machine, node_registry: Any
) -> None:
    node_registry([BELL])
    clone = belled(machine)
    run = machine.run("onboard", clone, "--json", "--no-input")
    failure = run.document["failure"]
    assert run.status == 1 and "--allow-install-code bell" in failure["remedy"], failure
    allowed = machine.run("onboard", clone, "--allow-install-code", "bell", "--json")
    assert allowed.document["outcome"] == "done", allowed.document["failure"]


@pytest.mark.skipif(shutil.which("node") is None, reason="no Node here")
@pytest.mark.parametrize("answer", ["yes", ""])
def test_on_a_terminal_the_person_may_allow_it(machine: Machine, node_registry: Any, answer: str) -> None:
    import sys

    import pexpect

    node_registry([BELL])
    clone = belled(machine)
    machine.variables["TERM"] = "dumb"
    words = ["-m", "plainfall", "onboard", str(clone)]
    child = pexpect.spawn(sys.executable, words, env=machine.variables, timeout=30, encoding="utf-8")
    child.expect("May bell run its own code while it is installed")
    child.expect("yes or no")
    child.sendline(answer)
    child.expect(pexpect.EOF)
    child.close()
    assert child.exitstatus == (0 if answer else 1)
    # What was allowed is remembered for this clone.
    again = machine.run("onboard", clone, "--json", "--no-input")
    assert again.status == child.exitstatus


@pytest.mark.skipif(shutil.which("node") is None, reason="no Node here")
@pytest.mark.parametrize("form", ["format 1", "classic"])
def test_optional_packages_for_other_systems_are_known_by_themselves(
    machine: Machine, node_registry: Any, form: str
) -> None:
    """The lock says nothing of systems: the package's own manifest does, or its name before it is fetched."""
    seals = node_archive("seals", "1.0.0", os=["darwin"])
    asked = node_registry([BELL, seals]).asked
    named = "@rain/words-darwin-arm64"
    manifest = {
        "name": "board",
        "dependencies": {"bell": "1.0.0"},
        "optionalDependencies": {"seals": "1.0.0"},
    }
    rows = {
        "bell": {"version": "1.0.0", "integrity": BELL.integrity, "requires": {"seals": "1.0.0"}},
        "seals": {"version": "1.0.0", "integrity": seals.integrity, "optional": True},
        named: {"version": "1.0.0", "integrity": "sha512-" + "A" * 86 + "==", "optional": True},
    }
    old = json.dumps({"name": "board", "lockfileVersion": 1, "dependencies": rows})
    entry = '{0}@1.0.0:\n  version "1.0.0"\n  integrity {1}\n{2}\n'
    more = f'  optionalDependencies:\n    "{named}" "1.0.0"\n'
    classic = "# yarn lockfile v1\n\n" + "".join(
        (
            entry.format("bell", BELL.integrity, more),
            entry.format("seals", seals.integrity, ""),
            entry.format(f'"{named}', "sha512-" + "A" * 86 + "==", "").replace("@1.0.0:", '@1.0.0":', 1),
        )
    )
    files = {"package-lock.json": old} if form == "format 1" else {"yarn.lock": classic}
    clone = machine.clone({"package.json": json.dumps(manifest), **files})
    run = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert run.status == 0, run.out
    assert run.step("dependencies")["detail"]["laid"] == ["bell 1.0.0"]
    assert not (clone / "node_modules/seals").exists() and not any("darwin" in one for one in asked)
    assert any(
        "2 optional packages are for other machines" in one for one in run.step("dependencies")["remarks"]
    )
    assert set(machine.run("onboard", clone, "--until", "dependencies", "--json").states.values()) == {"kept"}
