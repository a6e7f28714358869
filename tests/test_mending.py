"""What a recognised failure is told of the clone, and remedies that --mend carries out."""

from __future__ import annotations

import json
import shutil
from pathlib import Path
from typing import Any

import pytest
from conftest import SERVER, Machine, package
from node_clones import lock, package_json

from plainfall.standins.node_registry import node_archive
from plainfall.standins.registry import Archive

IMPORTS = "import gaugekit\n" + SERVER


def test_a_module_that_is_listed_and_was_taken_away(machine: Machine, offer: Any) -> None:
    offer([Archive.of(package())])
    clone = machine.clone(
        {"requirements.txt": "gaugekit==1.0\n", "app.py": IMPORTS, "Procfile": "web: python app.py\n"}
    )
    assert machine.run("onboard", clone, "--json").status == 0
    machine.run("stop", clone)
    inner = next((clone / ".venv/lib").glob("python*/site-packages/gaugekit"))
    # The module is gone, and what is looked at to tell that all is there is not.
    shutil.rmtree(inner)
    inner.mkdir()
    (inner / "__init__.py").write_text(
        "raise ModuleNotFoundError(\"No module named 'gaugekit'\", name='gaugekit')\n"
    )
    failed = machine.run("onboard", clone)
    said = " ".join(failed.err.split())
    assert failed.status == 1 and "gaugekit 1.0 is installed, and has no such module" in said
    assert "With --mend Plainfall tries that by itself" in said


def test_a_module_that_no_list_has_and_one_that_another_part_lists(machine: Machine, offer: Any) -> None:
    offer([Archive.of(package())])
    clone = machine.clone(
        {
            "api/requirements.txt": "",
            "api/app.py": IMPORTS,
            "api/Procfile": "web: python app.py\n",
            "tool/requirements.txt": "gaugekit==1.0\n",
            "tool/app.py": SERVER,
            "tool/Procfile": "web: python app.py\n",
        }
    )
    failed = machine.run("onboard", clone)
    assert "tool lists it (tool/requirements.txt), this part does not" in " ".join(failed.err.split())
    (clone / "tool/requirements.txt").write_text("")
    nowhere = machine.run("onboard", clone)
    assert "no list of this clone has it" in " ".join(nowhere.err.split())


def test_another_port_is_taken_where_one_is_held_only_when_it_is_opened(machine: Machine) -> None:
    # It is free when it is looked at, and refused when it is opened: what a race looks like.
    refuses = "import os\nif os.environ['PORT'] == '8651': raise SystemExit('OSError: [Errno 98] Address already in use')\n"
    clone = machine.clone(
        {"app.py": refuses + SERVER, "requirements.txt": "", "Procfile": "web: python app.py\n"}
    )
    failed = machine.run("onboard", clone, "--port", "8651")
    assert failed.status == 1 and "the port is taken" in failed.err and "--mend" in failed.err
    mended = machine.run("onboard", clone, "--port", "8651", "--mend", "--json")
    assert mended.status == 0, mended.err
    assert mended.document["servers"][0]["port"] == 8652
    assert any(
        remark.startswith("mended: ") and "another port" in remark
        for remark in mended.step("server")["remarks"]
    )


NEEDS_TABLE = """\
import sqlite3
sqlite3.connect("gauges.db").execute("SELECT * FROM stations")
"""
MIGRATE = """\
import sqlite3
with sqlite3.connect("gauges.db") as database:
    database.execute("CREATE TABLE IF NOT EXISTS stations (id INTEGER)")
"""


def test_migrations_are_applied_where_a_table_is_missing(machine: Machine) -> None:
    clone = machine.clone(
        {
            "requirements.txt": "",
            "app.py": NEEDS_TABLE + SERVER,
            "migrate.py": MIGRATE,
            "Procfile": "web: python app.py\nrelease: python migrate.py\n",
            ".env.example": "DATABASE_URL=sqlite:///gauges.db\n",
        }
    )
    assert machine.run("onboard", clone, "--json").status == 0
    machine.run("stop", clone)
    import sqlite3

    with sqlite3.connect(clone / "gauges.db") as database:
        database.execute("DROP TABLE stations")
    failed = machine.run("serve", clone, "--background")
    assert failed.status == 1 and "the database has no table stations" in " ".join(failed.err.split())
    mended = machine.run("serve", clone, "--background", "--mend", "--json")
    assert mended.status == 0, mended.err
    assert "migrations were applied" in str(mended.step("server")["remarks"])


@pytest.mark.skipif(shutil.which("node") is None, reason="no Node here")
def test_a_build_is_run_where_its_output_is_missing(machine: Machine, node_registry: Any) -> None:
    words = node_archive("gauge-words", "2.1.0")
    node_registry([words])
    server = "require('http').createServer((a, b) => b.end('<title>Built</title>')).listen(process.env.PORT, '127.0.0.1')"
    clone = machine.clone(
        {
            "package.json": package_json(
                [words], scripts={"build": "node build.js", "serve": "node start.js"}
            ),
            "package-lock.json": lock([words]),
            "build.js": f"const fs = require('fs'); fs.mkdirSync('dist'); fs.writeFileSync('dist/server.js', {json.dumps(server)})",
            "start.js": "require(__dirname + '/dist/server.js')",
        }
    )
    failed = machine.run("onboard", clone, "--no-attempts")
    assert failed.status == 1 and "the result of a build is missing" in " ".join(failed.err.split())
    mended = machine.run("onboard", clone, "--json")
    assert mended.status == 0, mended.err
    assert "npm run build was run" in str(mended.step("server")["remarks"])


def test_an_environment_whose_runtime_is_gone_is_made_anew(machine: Machine) -> None:
    clone = machine.clone(
        {"requirements.txt": "", "app.py": SERVER, "Procfile": "web: .venv/bin/gone app.py\n"}
    )
    Path(clone / ".venv").mkdir(parents=True, exist_ok=True)
    shutil.rmtree(clone / ".venv")
    failed = machine.run("onboard", clone)
    assert failed.status == 1 and "the environment is broken (.venv/bin/gone)" in " ".join(failed.err.split())
    again = machine.run("onboard", clone, "--mend")
    assert again.status == 1  # made again once, and not for ever


def test_a_module_of_the_parts_own_that_is_not_there(machine: Machine) -> None:
    files = {
        "rain/__init__.py": "",
        "app.py": "import rain.fall\n",
        "Procfile": "web: python app.py\n",
        "requirements.txt": "",
    }
    failed = machine.run("onboard", machine.clone(files), "--json").document["failure"]
    assert "rain belongs to this part, which has no such module" in failed["cause"]
    assert failed["remedy"].startswith("Check the name rain.fall")


def test_stages_that_are_left_out_stay_so(machine: Machine) -> None:
    files = {
        "app.py": SERVER,
        "migrate.py": "raise SystemExit('no tables here')\n",
        "requirements.txt": "\n",
    }
    clone = machine.clone(files)
    assert machine.run("onboard", clone).status == 1
    run = machine.run("onboard", clone, "--skip", "migrations", "--json")
    assert run.document["outcome"] == "done" and run.states["migrations"] == "left out"
    assert "--skip none" in run.step("migrations")["why"]
    assert machine.run("onboard", clone, "--json").states["migrations"] == "left out"
    again = machine.run("onboard", clone, "--skip", "none", "--json")
    assert again.status == 1 and again.states["migrations"] == "failed"
    assert machine.run("onboard", clone, "--skip", "server").status == 2


def test_a_port_that_was_taken_meanwhile_is_given_up(machine: Machine) -> None:
    """The first start finds its port taken, as where another program was quicker; with --port it stays a failure."""
    quicker = (
        "import os, pathlib, sys\nmark = pathlib.Path('.started')\nif not mark.exists():\n    mark.touch()\n"
        "    sys.exit(f'OSError: [Errno 98] Address already in use: {os.environ[\"PORT\"]}')\n"
    )
    clone = machine.clone({"app.py": quicker + SERVER, ".gitignore": ".started\n"})
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert "another port is used" in run.step("server")["remarks"][0]
    machine.run("stop", clone)
    (clone / ".started").unlink()
    assert machine.run("onboard", clone, "--port", "8799").status == 1
