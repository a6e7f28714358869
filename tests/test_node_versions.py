"""Node's versions and ranges: the same verdicts as the implementation that the runtime bundles."""

from __future__ import annotations

import json
import random
import shutil
import subprocess
from pathlib import Path
from typing import Any

import pytest
from conftest import Machine

from plainfall.ecosystems.node.resolve.versions import admits, is_range, order, parse_version

_NUMBERS = ("0", "0", "1", "1", "2", "3", "10")
_PRE = ("", "", "", "-alpha", "-alpha.1", "-beta.2", "-0", "-rc.1.x")
_ODD = (
    "", "*", "x", ">x", "<*", "1.2.3.4", "latest", "1.x.3", "01.2.3", "^", "~", "=1.2", "v1.2.3", "=v1.2.3", "1.2.3+build",
    ">= 1.2.3", "~> 1.2", "^ 1.2.3", "< 2", "||", "1 ||", "|| 2", "1.2.3 - ", "1 - 2 - 3", ">1.2.3 <1.2.3", "^0.0.0",
    "1.2.3-", "99999999999999999999.0.0", "^1.2.3 || ~0.1", ">=1.0.0-alpha <1.0.0", "*-alpha", "1.*", "1.2.*-beta", "^x.1",
)  # fmt: skip


def _partial(chosen: random.Random) -> str:
    pieces = [chosen.choice((*_NUMBERS, "x", "*")) for _ in range(chosen.choice((1, 2, 3, 3, 3)))]
    return ".".join(pieces) + (chosen.choice(_PRE) if len(pieces) == 3 else "")


def _range(chosen: random.Random) -> str:
    if chosen.random() < 0.1:
        return chosen.choice(_ODD)
    sets = []
    for _ in range(chosen.choice((1, 1, 1, 2, 3))):
        if chosen.random() < 0.2:
            sets.append(f"{_partial(chosen)} - {_partial(chosen)}")
            continue
        operators = ("", "", "=", "^", "^", "~", "~>", ">", ">=", "<", "<=")
        words = (chosen.choice(operators) + _partial(chosen) for _ in range(chosen.choice((1, 1, 2))))
        sets.append(" ".join(words))
    return chosen.choice(("||", " || ")).join(sets)


def _version(chosen: random.Random) -> str:
    return ".".join(chosen.choice(_NUMBERS) for _ in range(3)) + chosen.choice(_PRE)


def _reference() -> Path | None:
    node = shutil.which("node")
    found = Path(node).resolve().parent.parent / "lib/node_modules/npm/node_modules/semver" if node else None
    return found if found is not None and found.is_dir() else None


@pytest.mark.skipif(_reference() is None, reason="no Node with its client here")
def test_two_thousand_pairs_get_the_verdict_of_the_reference() -> None:
    chosen = random.Random()
    pairs = [(_version(chosen), _range(chosen)) for _ in range(6000)] + [
        (v, r) for r in _ODD for v in ("1.2.3", "0.0.0")
    ]
    script = (
        f"const semver = require({json.dumps(str(_reference()))});"
        "const pairs = JSON.parse(require('node:fs').readFileSync(0));"
        "console.log(JSON.stringify(pairs.map(([v, r]) => [semver.satisfies(v, r), semver.validRange(r) !== null])))"
    )
    done = subprocess.run(
        ["node", "-e", script], input=json.dumps(pairs), capture_output=True, text=True, check=True
    )
    theirs = json.loads(done.stdout)
    ours = [[admits(wanted, version), is_range(wanted)] for version, wanted in pairs]
    different = [
        (pair, mine, other) for pair, mine, other in zip(pairs, ours, theirs, strict=True) if mine != other
    ]
    assert different == []
    assert sum(verdict for verdict, _ in theirs) > 500


def test_order_is_that_of_the_specification() -> None:
    sorted_ones = "1.0.0-alpha 1.0.0-alpha.1 1.0.0-alpha.beta 1.0.0-beta 1.0.0-beta.2 1.0.0-beta.11 1.0.0-rc.1 1.0.0 1.0.1".split()
    shuffled = random.Random(3).sample(sorted_ones, len(sorted_ones))
    assert sorted(shuffled, key=order) == sorted_ones
    assert parse_version("1.2") is None and str(parse_version("v1.2.3-rc.1+5")) == "1.2.3-rc.1"


def test_release_lines_are_learnt_from_an_index(machine: Machine, node_registry: Any) -> None:
    node_registry([])
    index = machine.home / "index.json"
    rows = [
        {"version": "v98.1.0", "date": "2090-10-01", "lts": "Drizzle"},
        {"version": "v98.0.0", "date": "2090-04-20", "lts": False},
    ]
    index.write_text(json.dumps([*rows, {"version": "v99.0.0", "date": "2090-10-20", "lts": False}]))
    clone = machine.clone({"package.json": '{"main": "x"}', ".nvmrc": "lts/drizzle"})
    unknown = machine.run("survey", clone)
    assert unknown.status == 1 and ".nvmrc:1" in unknown.err and "--release-index" in unknown.err
    learnt = machine.run("survey", "--release-index", index)
    assert learnt.status == 0 and "Node 98   drizzle      supported until 2093-04-30" in learnt.out
    assert "Node 20   iron         support ended 2026-04-30" in learnt.out
    assert (
        machine.run("survey", "--release-index", index, "--json").document["release_lines"][-1]["major"] == 98
    )
    known = machine.run("onboard", clone, "--until", "runtime", PATH="/bin")
    assert known.status == 1 and "lts/drizzle (.nvmrc:1)" in " ".join(known.err.split())
    for text, said in (("[1, 2", "index.json:1: it is not JSON"), ("[]", "names no line")):
        index.write_text(text)
        wrong = machine.run("survey", "--release-index", index)
        told = " ".join(wrong.err.split())
        assert wrong.status == 1 and said in told and "lies next to the builds" in told
    assert machine.run("survey", clone).status == 0
