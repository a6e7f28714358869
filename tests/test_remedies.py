"""What is proposed after a failure by languages and by modules of remedies: releases held back, a build, a service that
only a failure names, a folder below, an option of the runtime."""

from __future__ import annotations

from pathlib import Path

import pytest
from conftest import Machine, Run, package
from test_examples import SERVER, Offer

from plainfall.standins.registry import Archive

PROCFILE = "web: python app.py\n"
HAS = {"gaugekit/__init__.py": b"VERSION = '1.4'\ndef drop():\n    return 1\n"}
NODE_SERVER = """\
{more}
require('http').createServer((request, response) => {{
  response.writeHead(200, {{'Content-Type': 'text/html'}});
  response.end('<title>Gauges</title>' + {body});
}}).listen(process.env.PORT, '127.0.0.1');
"""


def onboarded(machine: Machine, clone: Path) -> Run:
    """The first run comes up, and the second one has nothing to search for."""
    run = machine.run("onboard", clone, "--json", "--no-input")
    assert run.document["outcome"] == "done", run.document["failure"]
    again = machine.run("onboard", clone, "--json", "--no-input")
    assert again.document["outcome"] == "done", again.document["failure"]
    assert set(again.states.values()) <= {"kept", "left out"}, again.states
    return run


@pytest.mark.parametrize(
    "more", ["from gaugekit import drop", "import gaugekit\ngaugekit.drop()"], ids=["import", "attribute"]
)
def test_a_package_that_lost_a_name_is_held_back(machine: Machine, offer: Offer, more: str) -> None:
    offer([Archive.of(package("gaugekit", version, members=members)) for version, members in (
        ("1.4", HAS), ("2.0", {}), ("3.0", {}))])  # fmt: skip
    clone = machine.clone(
        {"app.py": SERVER.format(more=more), "requirements.txt": "gaugekit\n", "Procfile": PROCFILE}
    )
    run = onboarded(machine, clone)
    remarks = " ".join(run.step("server")["remarks"])
    assert "gaugekit 3.0 has no gaugekit.drop: a release below 2 was taken" in remarks, remarks
    assert machine.run("onboard", clone, "--keep-choices").status == 0
    assert 'held-back = ["gaugekit<2"]' in (clone / "plainfall.toml").read_text()


def test_a_pinned_package_is_not_held_back(machine: Machine, offer: Offer) -> None:
    offer([Archive.of(package("gaugekit", one)) for one in ("1.4", "3.0")])
    files = {
        "app.py": SERVER.format(more="from gaugekit import drop"),
        "requirements.txt": "gaugekit==3.0\n",
        "Procfile": PROCFILE,
    }
    run = machine.run("onboard", machine.clone(files), "--json", "--no-input")
    assert run.document["failure"]["recognised_as"] == "name-missing"
    assert run.document["failure"]["facts"] == {"name": "drop", "module": "gaugekit"}
    assert "below" not in " ".join(run.step("server")["remarks"])


@pytest.mark.needs("node")
def test_a_build_is_run_where_its_result_is_missing(machine: Machine) -> None:
    build = "require('fs').mkdirSync('dist', {recursive: true}); " \
        "require('fs').writeFileSync('dist/words.js', 'module.exports = \"12 mm\"')"  # fmt: skip
    clone = machine.clone(
        {
            "package.json": '{"name": "rain", "scripts": {"start": "node server.js", "build": "node build.js"}}',
            "server.js": NODE_SERVER.format(more="const words = require('./dist/words');", body="words"),
            "build.js": build,
        }
    )
    run = onboarded(machine, clone)
    assert "npm run build was run" in " ".join(run.step("server")["remarks"])
    assert (clone / "dist/words.js").is_file()


@pytest.mark.needs("node")
def test_a_build_that_fails_is_tried_once_and_the_cause_stays(machine: Machine) -> None:
    clone = machine.clone(
        {
            "package.json": '{"name": "rain", "scripts": {"start": "node server.js", "build": "exit 3"}}',
            "server.js": NODE_SERVER.format(more="const words = require('./dist/words');", body="words"),
        }
    )
    run = machine.run("onboard", clone, "--json", "--no-input")
    assert run.document["failure"]["recognised_as"] == "build-output-missing"
    assert "./dist/words" in run.document["failure"]["cause"]


@pytest.mark.needs("node")
def test_an_old_digest_gets_the_runtimes_option(machine: Machine) -> None:
    more = (
        "if (!(process.env.NODE_OPTIONS || '').includes('--openssl-legacy-provider'))\n"
        "  throw new Error('error:0308010C:digital envelope routines::unsupported');"
    )
    clone = machine.clone(
        {
            "package.json": '{"name": "rain", "scripts": {"start": "node server.js"}}',
            "server.js": NODE_SERVER.format(more=more, body="'12 mm'"),
        }
    )
    run = onboarded(machine, clone)
    assert "NODE_OPTIONS=--openssl-legacy-provider" in " ".join(run.step("server")["remarks"])


@pytest.mark.needs("redis-server")
def test_a_service_that_only_a_failure_names_is_started_at_its_usual_port(machine: Machine) -> None:
    more = (
        "import socket\nport = 6000 + 379\ntry:\n    socket.create_connection(('127.0.0.1', port), 2).close()\n"
        "except ConnectionRefusedError:\n"
        "    raise SystemExit(f'Error 111 connecting to 127.0.0.1:{port}. Connection refused.')"
    )
    clone = machine.clone({"app.py": SERVER.format(more=more), "requirements.txt": "", "Procfile": PROCFILE})
    run = onboarded(machine, clone)
    assert "nothing answered at port 6379: Redis was started there" in " ".join(run.step("server")["remarks"])
    assert machine.run("stop", clone).status == 0
    # The next morning the server is up before anything fails.
    later = machine.run("onboard", clone, "--json", "--no-input")
    assert later.document["outcome"] == "done" and later.states["services"] == "done"
    assert "nothing answered" not in " ".join(later.step("server")["remarks"])


def test_a_command_runs_in_the_only_folder_that_has_its_file(machine: Machine) -> None:
    clone = machine.clone(
        {
            "requirements.txt": "",
            "Procfile": "web: python gauge_page.py\n",
            "page/gauge_page.py": SERVER.format(more=""),
        }
    )
    run = onboarded(machine, clone)
    assert run.document["servers"][0]["command"] == "cd page && python gauge_page.py"
    assert "gauge_page.py lies in page" in " ".join(run.step("server")["remarks"])
