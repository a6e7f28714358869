"""Addresses between the parts of a clone, where a port has moved: what is passed on, and what cannot be."""

from __future__ import annotations

import socket
from collections.abc import Iterator
from pathlib import Path

import pytest
from conftest import Machine
from test_node_workspaces import manifest

from plainfall.ecosystems.node.sources.reader import read_javascript
from plainfall.evidence import Evidence
from plainfall.settings.listener_values import Listener, match_listeners

SERVER = """\
require("node:http").createServer((ask, answer) => {
  answer.setHeader("content-type", "text/html");
  answer.end(`<title>Gauges</title>${%s}`);
}).listen(process.env.PORT || %d, "127.0.0.1");
"""
CONFIGURATION = """\
import { defineConfig, loadEnv } from "vite";
export default defineConfig(({ mode }) => {
  const env = loadEnv(mode, process.cwd(), "");
  return { server: { proxy: { "/drops": %s"http://localhost:%d" } } };
});
"""
README = (
    "# Rain\n\nSomebody else's service listens on http://localhost:9999, the page on http://localhost:4398.\n"
)


@pytest.fixture
def taken() -> Iterator[int]:
    """The port of somebody else's server, which the interface is meant to have."""
    with socket.create_server(("127.0.0.1", 0)) as there:
        yield int(there.getsockname()[1])


def two_parts(machine: Machine, setting: str, port: int) -> Path:
    page = SERVER % (f'process.env.STATIONS ?? "http://localhost:{port}"', 4398)
    return machine.clone(
        {
            "README.md": README,
            "api/package.json": manifest("api", scripts={"dev": "node server.js"}),
            "api/server.js": SERVER % ('"drops"', port),
            "web/package.json": manifest("web", scripts={"dev": "node server.js"}),
            "web/server.js": page,
            "web/vite.config.js": CONFIGURATION % (setting, port),
        }
    )


@pytest.mark.needs("node")
def test_a_port_that_moved_is_passed_on_and_the_page_started_again(machine: Machine, taken: int) -> None:
    clone = two_parts(machine, "env.BACKEND || ", taken)
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    ports = {one["part"]: one["port"] for one in run.document["servers"]}
    assert ports["api"] != taken
    right = f"http://localhost:{ports['api']}"
    assert (clone / "web/.env").read_text() == f"STATIONS={right}\nBACKEND={right}\n"
    again = machine.run("onboard", clone, "--json")
    states = {(one["part"], one["stage"]): one["state"] for one in again.document["steps"]}
    assert set(states.values()) <= {"kept", "left out"}, str({k: v for k, v in states.items() if v == "done"})
    # The interface moves once more: both are started again.
    machine.run("stop", clone, "--part", "api")
    with socket.create_server(("127.0.0.1", ports["api"])):
        later = machine.run("onboard", clone, "--json")
    moved = {one["part"]: one["port"] for one in later.document["servers"]}
    assert later.document["outcome"] == "done" and moved["api"] not in (taken, ports["api"])
    assert f"BACKEND=http://localhost:{moved['api']}\n" in (clone / "web/.env").read_text()
    [started] = [one for one in later.document["steps"] if (one["part"], one["stage"]) == ("web", "server")]
    assert started["state"] == "done"


@pytest.mark.needs("node")
def test_a_proxy_that_nothing_moves_along_is_no_good_page(machine: Machine, taken: int) -> None:
    run = machine.run("onboard", two_parts(machine, "", taken))
    assert run.status == 1
    text = " ".join(run.err.split())
    assert (
        "web/vite.config.js:4" in text
        and f"passes requests on to port {taken}, which api could not have" in text
    )
    assert f"End what holds port {taken}" in text


def test_what_a_dev_servers_configuration_reads_of_its_settings_files() -> None:
    found = read_javascript(CONFIGURATION % ("env.BACKEND || ", 4397), "vite.config.js")
    assert [(use.key, use.default) for use in found.uses] == [("BACKEND", "http://localhost:4397")]


@pytest.mark.parametrize(
    ("key", "value", "right"),
    [
        ("STATIONS", "http://localhost:8000/all", "http://localhost:8001/all"),
        ("STATIONS", "localhost:5173", "localhost:5174"),
        ("VITE_API_URL", "http://localhost:5173/api", "http://localhost:8001/api"),
        ("STATIONS", "http://localhost:9999", None),
        ("STATIONS", "http://rain.example:8000", None),
        ("STATIONS", "8000", None),
    ],
    ids=["who listens", "the page", "its role first", "nobody's", "elsewhere", "a number"],
)
def test_which_server_an_address_means(key: str, value: str, right: str | None) -> None:
    here = Evidence("package.json", 1)
    page, other = Listener("web", 5174, here, True, 5173), Listener("api", 8001, here, False, 8000)
    match = match_listeners(key, value, page, [other])
    assert (match.value if match else None) == right
