"""Real frameworks on real servers: one command and no option, from a clone to a page with rows of its database.

These run where ``PLAINFALL_REAL_PACKAGES`` and ``PLAINFALL_REAL_NODE_PACKAGES`` name folders of packages, which
``.ci/run`` fetches, on a machine with PostgreSQL, MariaDB and Redis.
"""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
import urllib3
from conftest import PYTHON_LINE, Machine
from real_node_clones import CLONES as NODE_CLONES
from real_python_clones import CLONES

from plainfall.standins.node_registry import archives_below, serving_node
from plainfall.standins.registry import archives_in, serving

FOLDER = os.environ.get("PLAINFALL_REAL_PACKAGES", "")
NODE_FOLDER = os.environ.get("PLAINFALL_REAL_NODE_PACKAGES", "")
pytestmark = [
    pytest.mark.real,
    pytest.mark.skipif(not FOLDER or not NODE_FOLDER, reason="no folders of packages are named"),
]


@pytest.fixture
def python(roomy: Machine) -> Iterator[Machine]:
    with serving(archives_in(Path(FOLDER))) as registry:
        roomy.variables.pop("PIP_NO_INDEX")
        roomy.variables["PIP_INDEX_URL"] = registry.url
        yield roomy


@pytest.fixture
def node(roomy: Machine) -> Iterator[Machine]:
    roomy.variables["PATH"] += os.pathsep + str(Path(shutil.which("node") or "").parent)
    with serving_node(archives_below(Path(NODE_FOLDER), read_manifests=True)) as registry:
        roomy.variables["npm_config_registry"] = registry.url
        yield roomy


def onboarded(machine: Machine, files: dict[str, str]) -> tuple[Path, Any, str]:
    """Onboards with no option; again there is nothing to do, and it is quick."""
    clone = machine.clone(files)
    run = machine.run("onboard", clone, "--json", timeout=180)
    assert run.status == 0, run.out + run.err
    [server] = run.document["servers"]
    again = machine.run("onboard", clone, "--json")
    assert set(again.states.values()) == {"kept"}, again.states
    return clone, run, str(server["url"])


def ask(method: str, url: str) -> str:
    return urllib3.PoolManager().request(method, url).data.decode()


def test_django_on_postgres(python: Machine) -> None:
    clone, run, url = onboarded(python, {**CLONES["django-on-postgres"], ".python-version": PYTHON_LINE})
    assert run.states["services"] == run.states["migrations"] == run.states["seeds"] == "done"
    assert "PostgreSQL" in run.step("services")["title"] and "role reader" in run.step("services")["title"]
    assert ask("GET", url) == "<title>Stations</title>Ashford Mill, Copper Hill"
    assert "POSTGRES_HOST=localhost" in (clone / ".env").read_text()
    looked = " ".join(python.run("data", clone).out.split())
    assert "PostgreSQL database" in looked and "migrations Django:" in looked and "pending" not in looked
    assert "stations_station 2 id " in looked or "_station 2 " in looked
    python.run("stop", clone)
    back = python.run("onboard", clone, "--json", timeout=60)
    assert back.states["seeds"] == "kept" and back.states["services"] == "done"
    assert ask("GET", url) == "<title>Stations</title>Ashford Mill, Copper Hill"


def test_flask_with_migrations_on_mariadb(python: Machine) -> None:
    clone, run, url = onboarded(python, {**CLONES["flask-on-mariadb"], ".python-version": PYTHON_LINE})
    python.run("data", clone, "--changes")
    assert "MariaDB" in run.step("services")["title"] and run.states["migrations"] == "done"
    assert ask("GET", url) == "<title>Readings</title>5 readings"
    assert ask("POST", url + "readings") == "written"
    assert ask("GET", url) == "<title>Readings</title>6 readings"
    changed = " ".join(python.run("data", clone, "--changes").out.split())
    assert "+1 rows, now 6" in changed and "migrations Alembic: 1 applied" in changed


def test_node_with_a_query_builder_on_postgres_and_sessions_on_redis(node: Machine) -> None:
    clone, run, url = onboarded(node, NODE_CLONES["services"])
    kinds = {one["kind"] for one in run.step("services")["detail"]["services"]}
    assert kinds == {"postgres", "redis"} and run.states["migrations"] == "done"
    pool = urllib3.PoolManager()
    assert pool.request("POST", url + "readings").data == b"written"
    first = pool.request("GET", url)
    cookie = first.headers["set-cookie"].partition(";")[0]
    assert first.data.decode() == "<title>Desk</title>Kelby Weir seen 1"
    again = pool.request("GET", url, headers={"cookie": cookie}).data.decode()
    assert again == "<title>Desk</title>Kelby Weir seen 2"
    assert "redis://localhost:" in (clone / ".env").read_text()
    looked = " ".join(node.run("data", clone).out.split())
    assert "readings" in looked and "migrations Knex: 1 applied" in looked and " sess:" in looked
    assert "cookie" not in looked  # what a session holds is nobody's to read by the way
