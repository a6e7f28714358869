"""What a second start of a server needs, and gets without being asked: an option, a file, a folder, a mode."""

from __future__ import annotations

from pathlib import Path

import pytest
from conftest import Machine, package
from test_examples import SERVER, Offer

from plainfall.clone.walk import walk
from plainfall.settings.templates import find_templates
from plainfall.sources.values import FileFound, Load
from plainfall.standins.registry import Archive

MANAGE = """import http.server, importlib, os, sys

sys.path.insert(0, os.getcwd())
os.environ.setdefault('DJANGO_SETTINGS_MODULE', 'test_rain.settings')
settings = importlib.import_module(os.environ['DJANGO_SETTINGS_MODULE'])
# django.core.management execute_from_command_line
if 'runserver' not in sys.argv:
    sys.exit()
if not settings.DEBUG and not settings.ALLOWED_HOSTS:
    sys.exit('CommandError: You must set settings.ALLOWED_HOSTS if DEBUG is False.')


class Page(http.server.SimpleHTTPRequestHandler):
    def do_GET(self):
        self.send_response(200 if self.path == '/gauges/' else 404)
        self.send_header('Content-Type', 'text/html')
        self.end_headers()
        self.wfile.write(b'<title>Gauges</title>' if self.path == '/gauges/' else b'')


http.server.HTTPServer(('127.0.0.1', int(sys.argv[-1].rpartition(':')[2])), Page).serve_forever()
"""


def test_a_check_for_another_server_is_left_out_by_its_own_option(machine: Machine) -> None:
    checks = (
        "import sys\nif '--help' in sys.argv:\n"
        "    print('  --skip-check-of LIST  some\\n  --disable_check_stations  leave the check out')\n    sys.exit()\n"
        "if '--disable_check_stations' not in sys.argv:\n    raise ConnectionRefusedError('no stations')"
    )
    files = {"requirements.txt": "", "Procfile": "web: python app.py\n"}
    clone = machine.clone({**files, "app.py": SERVER.format(more=checks)})
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert run.document["servers"][0]["command"] == "python app.py --disable_check_stations"
    assert "another server does not answer, and python app.py --help names" in run.step("server")["why"]
    machine.run("stop", clone)
    assert machine.run("onboard", clone, "--json").states["server"] == "done"


@pytest.mark.parametrize(
    ("said", "command"),
    [
        ("Running as root is not recommended. Use --allow-root to bypass.", "python app.py --allow-root"),
        ("Can't run as root!", ""),
        ("Can't run as root: see --as-root=NAME.", ""),
    ],
    ids=["it names an option", "it names none", "one that wants a value"],
)
def test_a_program_that_refuses_root_and_names_an_option(machine: Machine, said: str, command: str) -> None:
    more = f"import sys\nif '--allow-root' not in sys.argv:\n    sys.exit({said!r})"
    files = {"requirements.txt": "", "Procfile": "web: python app.py\n"}
    run = machine.run("onboard", machine.clone({**files, "app.py": SERVER.format(more=more)}), "--json")
    if command:
        assert run.document["outcome"] == "done", run.document["failure"]
        assert run.document["servers"][0]["command"] == command
        assert "it refuses to run as root" in run.step("server")["why"]
    else:
        assert run.status == 1 and "refuses to run as root" in run.document["failure"]["cause"]


@pytest.mark.parametrize(
    "place, made",
    [
        ("tempfile.gettempdir() + '/rain/of/gauges'", True),
        ("os.path.expanduser('~/rain')", False),
        ("tempfile.gettempdir() + '/link/gauges'", False),
    ],
    ids=["temporary", "home", "a link out"],
)
def test_the_folder_of_a_database_that_only_the_runtime_names(
    machine: Machine, tmp_path: Path, place: str, made: bool
) -> None:
    temporary = tmp_path / "temporary"
    temporary.mkdir()
    (tmp_path / "elsewhere").mkdir()
    (temporary / "link").symlink_to(tmp_path / "elsewhere")
    machine.variables["TMPDIR"] = str(temporary)
    more = f"import sqlite3, tempfile\nsqlite3.connect({place} + '/list.sqlite').execute('SELECT 1')"
    files = {"requirements.txt": "", "Procfile": "web: python app.py\n", ".python-version": "3.11\n"}
    clone = machine.clone({**files, "app.py": SERVER.format(more=more)})
    run = machine.run("onboard", clone, "--json")
    if made:
        assert run.document["outcome"] == "done", run.document["failure"]
        assert (temporary / "rain/of/gauges/list.sqlite").exists()
        assert "in which it opens list.sqlite: it was made" in " ".join(run.step("server")["remarks"])
        assert set(machine.run("onboard", clone, "--json").states.values()) == {"kept"}
    else:
        assert run.status == 1 and "the file of the database" in run.document["failure"]["cause"]
        assert not list(machine.home.glob("rain")) and not list((tmp_path / "elsewhere").iterdir())


def test_a_documented_line_whose_file_is_there_comes_before_one_whose_is_not(machine: Machine) -> None:
    readme = "# Rain\n\n## Run\n\n    python serve.py rain.conf\n\n## Start it elsewhere\n\n    python serve.py mine/rain.conf\n"
    files = {"README.md": readme, "requirements.txt": "", "mine/rain.conf": "gauges\n"}
    clone = machine.clone(
        {**files, "serve.py": SERVER.format(more="import sys\nopen(os.path.abspath(sys.argv[1]))")}
    )
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert run.document["servers"][0]["command"] == "python serve.py mine/rain.conf"


def test_settings_for_production_get_development_mode_without_a_change(machine: Machine) -> None:
    urls = "urlpatterns = [\n    path('admin/', admin.site.urls),\n    path('gauges/', include('gauges.urls')),\n]\n"
    settings = "import os\nDEBUG = False\nALLOWED_HOSTS = []\nROOT_URLCONF = 'test_rain.urls'\n"
    files = {"manage.py": MANAGE, "requirements.txt": "", "test_rain/urls.py": urls}
    clone = machine.clone({**files, "test_rain/settings.py": settings})
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert run.step("probe")["title"].startswith('200 "Gauges"')  # /gauges/, since / does not exist
    assert "which take over test_rain.settings and turn DEBUG on" in " ".join(run.step("server")["remarks"])
    assert (clone / "test_rain/settings.py").read_text() == settings
    kept = machine.run("onboard", clone, "--json")
    assert set(kept.states.values()) <= {"kept", "left out"}
    machine.run("stop", clone)
    again = machine.run("onboard", clone, "--json")
    assert again.document["outcome"] == "done" and not any(
        "DEBUG" in one for one in again.step("server")["remarks"]
    )


def test_a_database_in_memory_is_put_into_a_file_without_a_change(machine: Machine) -> None:
    database = "import sqlite3\nrain = sqlite3.connect(settings.DATABASES['default']['NAME'], check_same_thread=False)\n"
    manage = MANAGE.replace(
        "if 'runserver' not in",
        database
        + "if 'migrate' in sys.argv:\n    rain.execute('create table if not exists gauges (name text)')\n    rain.commit()\nif 'runserver' not in",
    ).replace(
        "    def do_GET(self):\n",
        "    def do_GET(self):\n"
        "        try: rain.execute('select name from gauges')\n"
        "        except Exception as error: self.send_error(500); print('sqlite3.OperationalError:', error, flush=True); return\n",
    )
    settings = (
        "DEBUG = True\nDATABASES = {'default': {'NAME': ':memory:'}}\nROOT_URLCONF = 'test_rain.urls'\n"
    )
    urls = "urlpatterns = [path('gauges/', include('gauges.urls'))]\n"
    files = {
        "manage.py": manage,
        "requirements.txt": "",
        "test_rain/urls.py": urls,
        "test_rain/settings.py": settings,
    }
    clone = machine.clone(files)
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    remarks = " ".join(remark for step in run.document["steps"] for remark in step["remarks"])
    assert "put its database, which is in memory, into a file" in remarks
    kept = machine.run("onboard", clone, "--json")
    assert set(kept.states.values()) <= {"kept", "left out"}
    assert not list(clone.glob("*.sqlite3"))


def test_what_only_tests_load_and_an_ending_alone_are_no_settings_files(tmp_path: Path) -> None:
    (tmp_path / "config_example.yaml").write_text("gauges: 3\n")
    (tmp_path / "app.py").write_text("SUFFIX = '.yaml'\nopen('.yaml')\n")
    tree = walk(tmp_path)
    results = {
        "tests/test_all.py": FileFound(loads=(Load("confi.yaml", "", tree.line_of("app.py", "open")),))
    }
    [found] = find_templates(tree, "", [], results, remarks=[])
    assert found.target == "config.yaml"


def test_a_settings_module_that_is_no_name_becomes_no_code(machine: Machine) -> None:
    manage = MANAGE.replace(
        "importlib.import_module(os.environ['DJANGO_SETTINGS_MODULE'])",
        "importlib.import_module('test_rain.settings')",
    )
    files = {
        "manage.py": manage,
        "requirements.txt": "",
        "test_rain/settings.py": "DEBUG = False\nALLOWED_HOSTS = []\n",
        ".env.example": 'DJANGO_SETTINGS_MODULE="os; open(chr(120), chr(119)) #"\n',
    }
    clone = machine.clone(files)
    run = machine.run("onboard", clone, "--json")
    assert run.status == 1 and "DEBUG is off" in run.document["failure"]["cause"]
    assert not list((clone / ".plainfall").rglob("plainfall_development.py"))


def test_a_program_that_ends_well_with_an_error_is_no_tool(machine: Machine) -> None:
    more = "print('RuntimeError: no gauge answers'); raise SystemExit(0)"
    files = {"app.py": SERVER.format(more=more), "requirements.txt": ""}
    run = machine.run("onboard", machine.clone(files), "--json", "--no-input")
    assert run.status == 1 and "no gauge answers" in run.document["failure"]["cause"]


def test_a_sample_that_nothing_loads_and_nobody_can_read_stops_nothing(machine: Machine) -> None:
    files = {
        "app.py": SERVER.format(more=""),
        "requirements.txt": "",
        "local.conf.sample": "[[local|rain]]\n",
    }
    run = machine.run("onboard", machine.clone(files), "--json", "--no-input")
    assert run.document["outcome"] == "done", run.document["failure"]


def test_an_application_of_the_readers_own_is_not_missed(machine: Machine, offer: Offer) -> None:
    tool = package(
        "flask",
        members={
            "flask/cli.py": b"import sys\ndef main():\n    sys.exit(\"Error: Could not import 'app'.\")\n"
        },
        scripts={"flask": "flask.cli:main"},
    )
    offer([Archive.of(tool)])
    files = {
        "README.md": "# Gauges\n\n## Running\n\nWith `app.py` of your own:\n\n```sh\nexport FLASK_APP=app.py\nflask run\n```\n",
        "requirements.txt": "flask\n",
        "gauges/__init__.py": "",
    }
    run = machine.run("onboard", machine.clone(files), "--json", "--no-input")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert run.states["server"] == "left out"
