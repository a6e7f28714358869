"""Bad input of Node clones: each ends in words that name the place and the remedy, and nothing is laid."""

from __future__ import annotations

from typing import Any

import psutil
import pytest
from conftest import Machine
from node_clones import lock, package_json

from plainfall.standins.node_registry import NodeArchive, node_archive, tarball

WORDS = node_archive("gauge-words", "2.1.0")
UNITS = node_archive("@rain/units", "1.0.0")


def _bad(machine: Machine, node_registry: Any, text: str, archives: list[NodeArchive], **files: str) -> str:
    node_registry(archives)
    clone = machine.clone({"package.json": package_json(archives), "package-lock.json": text, **files})
    run = machine.run("onboard", clone, "--until", "dependencies")
    assert run.status == 1 and "Traceback" not in run.err, run.err
    assert not any((clone / "node_modules").glob("*"))
    return " ".join(run.err.split())


@pytest.mark.needs("node")
def test_an_integrity_that_does_not_fit(machine: Machine, node_registry: Any) -> None:
    text = lock([WORDS]).replace(WORDS.integrity, UNITS.integrity)
    said = _bad(machine, node_registry, text, [WORDS])
    assert "gauge-words 2.1.0" in said and "but the lock file says" in said and "thrown away" in said


def test_a_lock_format_of_the_future(machine: Machine, node_registry: Any) -> None:
    said = _bad(
        machine, node_registry, lock([WORDS]).replace('"lockfileVersion": 3', '"lockfileVersion": 9'), [WORDS]
    )
    assert "package-lock.json:2: lock format 9 is not known" in said


def test_file_links_in_a_circle(machine: Machine, node_registry: Any) -> None:
    links = {
        "node_modules/a": {"resolved": "node_modules/b", "link": True},
        "node_modules/b": {"resolved": "node_modules/a", "link": True},
    }
    assert "circle: node_modules/a → node_modules/b → node_modules/a" in _bad(
        machine, node_registry, lock([WORDS], more=links), [WORDS]
    )


@pytest.mark.parametrize(
    "place", ["node_modules/../../x", "node_modules/..", "/x/node_modules/y", "node_modules/.bin"]
)
def test_a_place_that_leads_out(machine: Machine, node_registry: Any, place: str) -> None:
    text = lock([WORDS], more={place: {"version": "1.0.0"}})
    assert "would be laid outside its folder" in _bad(machine, node_registry, text, [WORDS])


@pytest.mark.parametrize(
    ("content", "said"),
    [
        (tarball({"package.json": b"{}"}, links={"out": "../../../etc/passwd"}), "a link that leads out"),
        (tarball({"../../x": b"1", "package.json": b"{}"}), "outside its folder"),
        (tarball({"package.json": b"{}"})[:60], "damaged"),
        (b"no archive", "damaged"),
        (tarball({"index.js": b"1"}), "without a package.json"),
    ],
)
@pytest.mark.needs("node")
def test_hostile_and_damaged_archives(
    machine: Machine, node_registry: Any, content: bytes, said: str
) -> None:
    bad = NodeArchive("sour", "1.0.0", content)
    assert said in _bad(machine, node_registry, lock([bad]), [bad])


@pytest.mark.needs("node")
def test_a_package_that_the_registry_lacks(machine: Machine, node_registry: Any) -> None:
    node_registry([])
    clone = machine.clone({"package.json": package_json([WORDS]), "package-lock.json": lock([WORDS])})
    run = machine.run("onboard", clone)
    assert run.status == 1 and "gauge-words 2.1.0 is not at" in run.err


@pytest.mark.needs("node")
def test_install_code_that_hangs_is_ended_with_all_that_it_started(
    machine: Machine, node_registry: Any
) -> None:
    hangs = node_archive("gauge-driver", scripts={"install": "echo waiting for rain; sleep 987 & sleep 986"})
    node_registry([hangs])
    clone = machine.clone(
        {
            "package.json": package_json([hangs]),
            "package-lock.json": lock([hangs]),
            "plainfall.toml": '[install]\nallow-code = ["gauge-driver"]\ncode-seconds = 0.5\n',
        }
    )
    run = machine.run("onboard", clone, "--until", "dependencies", timeout=30)
    said = " ".join(run.err.split())
    assert run.status == 1 and "gauge-driver (install: echo waiting" in said
    assert "did not end within 0.5 s" in said and "waiting for rain" in said and "code-seconds" in said
    assert not [
        p
        for p in psutil.process_iter(["cmdline"])
        if p.info["cmdline"] in (["sleep", "986"], ["sleep", "987"])
    ]
    (clone / "plainfall.toml").write_text('[install]\ncode-seconds = "long"\n')
    wrong = machine.run("onboard", clone, "--until", "dependencies")
    assert wrong.status == 1 and "plainfall.toml:2" in wrong.err and "code-seconds = 900" in wrong.err


ASKS = """\
const lines = require("node:readline").createInterface({ input: process.stdin });
process.stdout.write("Something is already running on port 3000. Take another port? (Y/n) ");
let answered = false;
lines.on("line", (text) => { answered = true; start(text); });
lines.on("close", () => { if (!answered) { console.error("no answer"); process.exit(1); } });
function start() {}
"""
OPENS = """\
const { execFileSync } = require("node:child_process");
if (process.env.BROWSER !== "none") execFileSync(process.env.BROWSER || "xdg-open", ["http://localhost:3000"]);
require("node:http").createServer((ask, answer) => {
  answer.setHeader("content-type", "text/html");
  answer.end("<title>Gauges</title>");
}).listen(process.env.PORT, "127.0.0.1");
"""


@pytest.mark.needs("node")
def test_a_dev_server_that_asks_a_question_is_not_waited_for(machine: Machine, node_registry: Any) -> None:
    node_registry([])
    clone = machine.clone({"package.json": '{"scripts": {"dev": "node asks.js"}}', "asks.js": ASKS})
    run = machine.run("onboard", clone, timeout=40)
    said = " ".join(run.err.split())
    assert run.status == 1 and "asks a question" in said
    assert "Take another port? (Y/n)" in said and "--port N" in said


@pytest.mark.needs("node")
def test_a_dev_server_that_wants_a_browser_is_kept_from_one(machine: Machine, node_registry: Any) -> None:
    node_registry([])
    clone = machine.clone({"package.json": '{"scripts": {"dev": "node opens.js"}}', "opens.js": OPENS})
    run = machine.run("onboard", clone, "--json", timeout=40)
    assert run.status == 0, run.out + run.err
    assert run.document["servers"][0]["probe"]["title"] == "Gauges"


@pytest.mark.needs("node")
def test_a_tree_of_somebody_else_is_left_alone(machine: Machine, node_registry: Any) -> None:
    node_registry([WORDS])
    files = {
        "package.json": package_json([WORDS]),
        "package-lock.json": lock([WORDS]),
        "node_modules/mine/index.js": "1",
    }
    clone = machine.clone(files)
    run = machine.run("onboard", clone, "--until", "dependencies")
    assert run.status == 1 and "was not made by Plainfall" in run.err
    assert (clone / "node_modules/mine/index.js").read_text() == "1"
