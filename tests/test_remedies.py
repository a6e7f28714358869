"""What is proposed after a failure by languages and by modules of remedies: releases held back, a build, a service that
only a failure names, a folder below, an option of the runtime."""

from __future__ import annotations

from pathlib import Path

import pytest
from conftest import Machine, Run, package
from msgspec.structs import replace
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


def test_a_package_under_another_name_than_its_module_is_held_back(machine: Machine, offer: Offer) -> None:
    has = {"rainy/__init__.py": b"", "rainy/cups.py": b"def drop(): pass\n"}
    lost = {"rainy/__init__.py": b"", "rainy/cups.py": b""}
    offer(
        [
            Archive.of(package("gauge-py", "1.4", members=has)),
            Archive.of(package("gauge-py", "2.0", members=lost)),
        ]
    )
    main = SERVER.format(more="from rainy.cups import drop")
    clone = machine.clone({"app.py": main, "requirements.txt": "gauge-py\n", "Procfile": PROCFILE})
    remarks = " ".join(onboarded(machine, clone).step("server")["remarks"])
    assert "gauge-py 2.0 has no rainy.cups.drop: a release below 2 was taken" in remarks, remarks


def test_a_package_whose_class_lost_a_name_is_held_back(machine: Machine, offer: Offer) -> None:
    has = {"gaugekit/__init__.py": b"class Gaugekit:\n    def tips(self): pass\n"}
    lost = {"gaugekit/__init__.py": b"class Gaugekit:\n    pass\n"}
    offer(
        [
            Archive.of(package("gaugekit", "1.4", members=has)),
            Archive.of(package("gaugekit", "2.0", members=lost)),
        ]
    )
    main = SERVER.format(more="import gaugekit\ngaugekit.Gaugekit().tips()")
    clone = machine.clone({"app.py": main, "requirements.txt": "gaugekit\n", "Procfile": PROCFILE})
    remarks = " ".join(onboarded(machine, clone).step("server")["remarks"])
    assert "gaugekit 2.0 has no tips: a release below 2 was taken" in remarks, remarks


def test_the_folder_of_a_database_that_migrations_open_is_made(machine: Machine) -> None:
    code = "import sqlite3\nsqlite3.connect('data/rain.db').execute('create table if not exists gauges (name text)')\n"
    clone = machine.clone(
        {
            "app.py": SERVER.format(more=""),
            "tables.py": code,
            "requirements.txt": "",
            "Procfile": "web: python app.py\nrelease: python tables.py\n",
        }
    )
    run = machine.run("onboard", clone, "--json", "--no-input")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert (clone / "data/rain.db").is_file()


def test_a_package_for_another_system_is_named_as_such(machine: Machine, offer: Offer) -> None:
    made = Archive.of(package("gaugekit", "1.0"))
    offer([replace(made, filename="gaugekit-1.0-cp311-cp311-win_amd64.whl")])
    clone = machine.clone(
        {
            "requirements.txt": f"gaugekit==1.0 --hash=sha256:{made.sha256}\n",
            "app.py": SERVER.format(more=""),
            "Procfile": PROCFILE,
        }
    )
    failure = machine.run("onboard", clone, "--json", "--no-input").document["failure"]
    assert "gaugekit 1.0 is made for Windows only" in failure["cause"], failure


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


@pytest.mark.needs("memcached")
def test_a_service_whose_driver_only_a_failure_names_is_started_at_its_usual_port(machine: Machine) -> None:
    driver = (
        "import socket\ndef ask():\n    socket.create_connection(('127.0.0.1', 11000 + 211), 2).close()\n"
    )
    more = (
        "import sys\nsys.path.insert(0, 'site-packages')\nimport pymemcache.client\npymemcache.client.ask()"
    )
    files = {"site-packages/pymemcache/__init__.py": "", "site-packages/pymemcache/client.py": driver}
    app = {"app.py": SERVER.format(more=more), "requirements.txt": "", "Procfile": PROCFILE}
    run = onboarded(machine, machine.clone({**files, **app}))
    assert "nothing answered at port 11211: memcached was started there" in " ".join(
        run.step("server")["remarks"]
    )


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


def test_a_server_whose_page_was_bad_starts_anew_with_the_same_command(machine: Machine) -> None:
    """What a person has mended in the code is seen, whether or not the server reloads by itself."""
    page = "self.send_response(500); self.end_headers()"
    broken = (
        "import http.server, os\nclass Page(http.server.BaseHTTPRequestHandler):\n    def do_GET(self):\n"
        f"        {page}\n"
        "http.server.HTTPServer(('127.0.0.1', int(os.environ['PORT'])), Page).serve_forever()\n"
    )
    clone = machine.clone({"app.py": broken, "requirements.txt": "", "Procfile": PROCFILE})
    failed = machine.run("onboard", clone, "--json", "--no-input", "--wait", "3")
    assert failed.status == 1
    assert "the same command starts it anew" in failed.document["failure"]["remedy"]
    (clone / "app.py").write_text(SERVER.format(more=""))
    again = machine.run("onboard", clone, "--json", "--no-input")
    assert again.document["outcome"] == "done" and again.states["server"] == "done", again.document["failure"]


def test_a_process_file_that_names_what_is_gone_is_a_failure(machine: Machine) -> None:
    """Its server belongs to this project, whatever a README's line might mean."""
    clone = machine.clone({"requirements.txt": "", "Procfile": "web: python rain.py\n"})
    run = machine.run("onboard", clone, "--json", "--no-input")
    assert run.document["failure"]["facts"]["path"].endswith("rain.py")


def test_what_mend_cannot_do_is_not_offered(machine: Machine) -> None:
    table = "import sqlite3\nsqlite3.connect('g.db').execute('select * from stations')"
    for number, more in enumerate(("import rainfall_of_nobody", table)):
        files = {"app.py": SERVER.format(more=more), "requirements.txt": "", "Procfile": PROCFILE}
        run = machine.run("onboard", machine.clone(files, f"c{number}"), "--json", "--no-input")
        assert run.status == 1 and "--mend" not in run.document["failure"]["remedy"]


@pytest.mark.needs("node")
def test_a_runtime_that_cannot_be_fetched_leaves_the_cause_first(machine: Machine) -> None:
    machine.variables["npm_config_registry"] = "http://127.0.0.1:9/"
    manifest = '{"name": "rain", "engines": {"node": ">=99"}, "scripts": {"start": "node server.js"}}'
    clone = machine.clone({"package.json": manifest, "server.js": ""})
    failure = machine.run("onboard", clone, "--json", "--no-input").document["failure"]
    assert failure["cause"] == "no Node here fits what the clone asks for"
    assert any("none could be fetched either" in line for line in failure["lines"])


@pytest.mark.needs("node")
def test_a_task_that_fails_is_left_out_where_the_page_is_good_without(machine: Machine) -> None:
    manifest = '{"name": "rain", "scripts": {"build": "echo no styles; exit 3"}, "dependencies": {}}'
    clone = machine.clone(
        {
            "app.py": SERVER.format(more=""),
            "requirements.txt": "",
            "Procfile": PROCFILE,
            "package.json": manifest,
            "README.md": "# Rain\n\n## Setup\n\n```\nnpm run build\n```\n",
        }
    )
    run = machine.run("onboard", clone, "--json", "--no-input")
    assert run.document["outcome"] == "done", run.document["failure"]
    tasks = next(one for one in run.document["steps"] if one["stage"] == "tasks")
    assert tasks["state"] == "left out" and "the server starts without it" in " ".join(tasks["remarks"])
    again = machine.run("onboard", clone, "--json", "--no-input")
    assert again.document["outcome"] == "done"
    assert set(again.states.values()) <= {"kept", "left out"}


UV_LOCK = """\
version = 1
revision = 2
requires-python = ">=3.11"

[[package]]
name = "rain"
version = "1"
source = {{ virtual = "." }}

[package.{table}]
maps = [{{ name = "gaugekit"{more} }}]

[[package]]
name = "gaugekit"
version = "1.0"
source = {{ registry = "https://registry.example/simple" }}
wheels = [{{ url = "https://registry.example/gaugekit-1.0-py3-none-any.whl", hash = "sha256:{sha256}" }}]
"""


@pytest.mark.parametrize("table", ["optional-dependencies", "dev-dependencies"])
def test_what_a_lock_has_is_laid_where_the_program_wants_it(
    machine: Machine, offer: Offer, table: str
) -> None:
    built = package("gaugekit", "1.0")
    offer([Archive.of(built)])
    manifest = {
        "optional-dependencies": "[project.optional-dependencies]\nmaps = ['gaugekit']\n",
        "dev-dependencies": "[dependency-groups]\nmaps = ['gaugekit']\n",
    }[table]
    more = ", marker = \"extra == 'maps'\"" if table == "optional-dependencies" else ""
    lock = UV_LOCK.format(table=table, more="", sha256=built.sha256)
    files = {
        "app.py": SERVER.format(more="import gaugekit"),
        "pyproject.toml": f"[project]\nname = 'rain'\nversion = '1'\nrequires-python = '>=3.11'\n\n{manifest}\n[tool.uv]\npackage = false\n",
        "uv.lock": lock
        if not more
        else lock.replace(
            '[[package]]\nname = "gaugekit"',
            "[package.metadata]\n"
            'requires-dist = [{ name = "gaugekit", marker = "extra == \'dev\'" }]\nprovides-extras = ["dev"]\n\n[[package]]\nname = "gaugekit"',
        ),
        "Procfile": PROCFILE,
    }
    run = onboarded(machine, machine.clone(files))
    said = " ".join(run.step("server")["remarks"])
    noun = "extra" if table == "optional-dependencies" else "group"
    assert f"the {noun} maps, which lists gaugekit, was installed, too" in said, said


@pytest.mark.parametrize(
    ("more", "cause"),
    [
        ({}, "maps (of the module gauges) is not in this clone"),
        (
            {"gauges/maps.py": "import gauges.sheet\n", "gauges/sheet.py": "from .maps import rain\n"},
            "in a circle",
        ),
    ],
    ids=["it is not there", "a circle"],
)
def test_a_module_that_a_package_lacks_is_no_circle(
    machine: Machine, more: dict[str, str], cause: str
) -> None:
    files = {"app.py": SERVER.format(more="import gauges"), "requirements.txt": "", "Procfile": PROCFILE}
    clone = machine.clone({**files, "gauges/__init__.py": "from . import maps\n", **more})
    failure = machine.run("onboard", clone, "--json", "--no-input", "--no-attempts").document["failure"]
    assert cause in failure["cause"], failure
