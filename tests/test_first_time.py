"""What a program wants once before it serves: a first step of its own, or a first start that only writes files."""

from __future__ import annotations

import contextlib
import json
import sqlite3
import sys
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Machine, locked, package
from test_building import tree

from plainfall.standins.registry import Archive, Registry

Offer = Callable[..., Registry]
SERVES = (
    "        handler = http.server.SimpleHTTPRequestHandler\n"
    "        http.server.HTTPServer(('127.0.0.1', int(os.environ['PORT'])), handler).serve_forever()\n"
)
PROGRAM = """import http.server, os, pathlib, sys


def main():
    made = pathlib.Path('gauges.dat')
    words = sys.argv[1:]
    if '--help' in words:
        print('usage: rain [word]\\n\\ncommands:\\n{listed}')
    elif words == ['{word}']:
        assert not '{question}' or input('{question}') == ''
        made.write_text('gauges')
    elif words == ['reset'] or words[1:]:
        pathlib.Path('taken-away.dat').write_text('never to be run')
    elif not made.exists():
        sys.exit('{refusal}')
    else:
{serves}

if __name__ == '__main__':
    main()
"""


def project(program: str) -> dict[str, str]:
    """The files of a project with a program ``rain`` of its own."""
    files = tree("rain", requires="bottle")
    files["pyproject.toml"] += "[project.scripts]\nrain = 'rain:main'\n"
    entry = "    members[info + 'entry_points.txt'] = '[console_scripts]\\nrain = rain:main\\n'\n"
    files["ownbuild.py"] = files["ownbuild.py"].replace(
        "    members = dict(members)\n", "    members = dict(members)\n" + entry
    )
    return {**files, "rain.py": program}


def clone_of(machine: Machine, **words: str) -> Path:
    """A project whose own program wants a first step before it serves."""
    given = {"word": "init", "refusal": "no gauges", "listed": "", "question": "", **words}
    files = project(PROGRAM.format(serves=SERVES, **given))
    files["README.md"] = f"# Rain\n\n## Run\n\n    rain\n{given.get('readme', '')}"
    return machine.clone(files)


@pytest.mark.parametrize(
    "words",
    [
        {"refusal": "no gauges yet: run rain init first"},
        {"listed": "  reset    take all away\\n  init     make the list of gauges\\n"},
        {"readme": "\n## What happens behind it\n\n    rain init\n"},
        {"readme": "\n## More\n\n    rain init --of GAUGE_NAME\n"},
        {"word": "bootstrap", "listed": "  init     one step\\n  bootstrap  every step\\n"},
        {"refusal": "run rain init first", "question": "Which list (default: all)? "},
    ],
    ids=["the output says so", "its help lists it", "documented", "with a placeholder", "all", "by Enter"],
)
def test_a_first_step_of_the_projects_own_is_carried_out_once(
    machine: Machine, offer: Offer, words: dict[str, str]
) -> None:
    offer([Archive.of(package("bottle"))])
    clone = clone_of(machine, **words)
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    remarks = " ".join(run.step("server")["remarks"])
    assert f"`rain {words.get('word', 'init')}` was run once before" in remarks
    machine.run("stop", clone)
    if "refusal" in words:
        (clone / "gauges.dat").unlink()
        again = machine.run("onboard", clone, "--json")
        assert again.status == 1 and not (clone / "gauges.dat").exists()  # nothing is repeated unasked


def test_first_steps_follow_each_other(machine: Machine, offer: Offer) -> None:
    offer([Archive.of(package("bottle"))])
    steps = PROGRAM.replace("    elif not made.exists():", (
        "    elif words == ['create-index']:\n        assert made.exists()\n        pathlib.Path('index.dat').touch()\n"
        "    elif not made.exists() or not pathlib.Path('index.dat').exists():"
    ))  # fmt: skip
    text = steps.format(serves=SERVES, word="init", refusal="not ready", listed="", question="")
    files = {
        **project(text),
        "README.md": "# Rain\n\n## Run\n\n    rain init\n    rain create-index\n    rain\n",
    }
    clone = machine.clone(files)
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    first, second, *_ = run.step("server")["remarks"]
    assert "`rain init` was run once" in first and "`rain create-index` was run once" in second


@pytest.mark.parametrize(
    "option", ["the following arguments are required: -d/--directory", "Missing option '--data'."]
)
def test_a_program_that_requires_a_folder_gets_one_of_its_own(
    machine: Machine, offer: Offer, option: str
) -> None:
    offer([Archive.of(package("bottle"))])
    name = "--directory" if "--directory" in option else "--data"
    text = (
        "import http.server, os, pathlib, sys\n\n\ndef main():\n    words = sys.argv[1:]\n"
        "    if words[:1] != ['serve']:\n        sys.exit('usage: rain\\n  serve   the pages')\n"
        f"    if {name!r} not in words:\n        sys.exit({option!r})\n"
        "    assert pathlib.Path(words[-1]).is_dir()\n    if True:\n"
        f"{SERVES}\n\nif __name__ == '__main__':\n    main()\n"
    )
    clone = machine.clone({**project(text), "README.md": "# Rain\n\n## Run\n\n    rain\n"})
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert run.document["servers"][0]["command"] == f"rain serve {name} .plainfall/folder"


@pytest.mark.parametrize(("word", "does"), [("ingest", True), ("purge", False)])
def test_what_the_program_wants_to_be_run_first(
    machine: Machine, offer: Offer, word: str, does: bool
) -> None:
    offer([Archive.of(package("bottle"))])
    text = (
        "import http.server, os, pathlib, sys\n\n\ndef main():\n    made = pathlib.Path('gauges.dat')\n"
        f"    if sys.argv[1:] == [{word!r}]:\n        made.touch()\n"
        f"    elif not made.exists():\n        print(\"No gauges yet. Run 'rain {word}' first.\")\n    else:\n"
        f"{SERVES}\n\nif __name__ == '__main__':\n    main()\n"
    )
    clone = machine.clone({**project(text), "README.md": "# Rain\n\n## Run\n\n    rain\n"})
    run = machine.run("onboard", clone, "--json")
    assert (run.document["outcome"] == "done") is does, run.document["failure"]
    assert (clone / "gauges.dat").exists() is does
    if not does:
        assert f"Run 'rain {word}' first" in run.document["failure"]["cause"]


def test_a_demo_gets_the_project_itself_and_no_stranger_of_its_name(machine: Machine, offer: Offer) -> None:
    offer([Archive.of(package("bottle")), Archive.of(package("rain"))])
    files = project("WHOSE = 'ours'\n")
    files["pyproject.toml"] = files["pyproject.toml"].partition("[project.scripts]")[0]
    files["backend/rain.py"] = files.pop("rain.py")
    files["ownbuild.py"] = (
        files["ownbuild.py"]
        .replace("open(NAME", 'open("backend/" + NAME')
        .replace('os.getcwd() + "', 'os.getcwd() + "/backend')
    )
    demo = f"import http.server, os, rain\nassert rain.WHOSE == 'ours'\nif True:\n{SERVES}"
    readme = "# Rain\n\n    pip install rain\n\n## Run\n\n    python demo/app.py\n"
    clone = machine.clone({**files, "demo/app.py": demo, "README.md": readme})
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert "1 package installed (1 fetched" not in " ".join(run.step("server")["remarks"])


def test_a_script_that_the_setup_installs_as_it_is_starts_the_project(machine: Machine, offer: Offer) -> None:
    offer([Archive.of(package("bottle"))])
    setup = (
        "import os\nfrom setuptools import setup\n\nscripts = [os.path.join('bin', 'rain-board')]\n"
        "setup(name='rain-board', install_requires=['bottle'], scripts=scripts)\n"
    )
    program = f"import http.server, os\nif True:\n{SERVES}"
    files = {**project(""), "setup.py": setup, "bin/rain-board": program, "bin/other": ""}
    files["pyproject.toml"] = files["pyproject.toml"].partition("[project.scripts]")[0]
    run = machine.run("onboard", machine.clone(files), "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert run.document["servers"][0]["command"] == "python bin/rain-board"


def test_a_command_of_the_projects_own_program_is_none_of_the_application(machine: Machine) -> None:
    cli = "import click\n\n@click.group()\ndef cli(): ...\n\n@cli.command('init-db')\ndef init_db(): ...\n"
    app = (
        "from flask import Flask\napp = Flask(__name__)\n\n@app.cli.command('make-tables')\ndef make(): ...\n"
    )
    clone = machine.clone({"requirements.txt": "flask\n", "app.py": app, "cli.py": cli})
    said = machine.run("survey", clone, "--json").out
    assert "flask make-tables" in said and "flask init-db" not in said


def test_what_stops_the_server_is_said_rather_than_how_the_program_is_used(
    machine: Machine, offer: Offer
) -> None:
    offer([Archive.of(package("bottle"))])
    text = (
        "import socket, sys\n\n\ndef main():\n    if sys.argv[1:2] != ['serve']:\n"
        "        sys.exit('usage: rain\\n  serve   the pages')\n    socket.create_connection(('rain.invalid', 80))\n\n\n"
        "if __name__ == '__main__':\n    main()\n"
    )
    clone = machine.clone({**project(text), "README.md": "# Rain\n\n## Run\n\n    rain\n"})
    failure = machine.run("onboard", clone, "--json").document["failure"]
    assert failure["recognised_as"] == "host-nameless", failure


def test_a_page_that_lacks_tables_is_followed_by_the_projects_own_first_step(
    machine: Machine, offer: Offer
) -> None:
    offer([Archive.of(package("bottle"))])
    text = (
        "import http.server, os, pathlib, sys\n\n\nclass Page(http.server.BaseHTTPRequestHandler):\n    def do_GET(self):\n"
        "        made = pathlib.Path('tables.dat').exists()\n        self.send_response(200 if made else 500)\n"
        "        self.end_headers()\n        self.wfile.write(b'<p>ok')\n        if not made:\n"
        "            print('sqlite3.OperationalError: no such table: gauges', file=sys.stderr, flush=True)\n\n\n"
        "def main():\n    if sys.argv[1:] == ['db', 'upgrade']:\n        pathlib.Path('tables.dat').touch()\n    else:\n"
        "        http.server.HTTPServer(('127.0.0.1', int(os.environ['PORT'])), Page).serve_forever()\n\n\n"
        "if __name__ == '__main__':\n    main()\n"
    )
    clone = machine.clone(
        {
            **project(text),
            "README.md": "# Rain\n\n## Run\n\n    rain\n\n## Behind it\n\n    rain db upgrade\n",
        }
    )
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert "`rain db upgrade` was run once" in run.step("probe")["remarks"][0]


def test_a_guessed_migration_that_wants_more_words_is_left_out(machine: Machine, offer: Offer) -> None:
    offer([Archive.of(package("bottle"))])
    text = PROGRAM.format(serves=SERVES, word="init", refusal="", listed="", question="").replace(
        "    elif not made.exists():\n        sys.exit('')\n", ""
    )
    files = project(
        text.replace(
            "def main():", "def move():\n    sys.exit('Usage: rain-migrate <config>')\n\n\ndef main():"
        )
    )
    files["pyproject.toml"] = files["pyproject.toml"].replace(
        "rain = 'rain:main'", "rain = 'rain:main'\nrain-migrate = 'rain:move'"
    )
    clone = machine.clone({**files, "README.md": "# Rain\n\n## Run\n\n    rain\n"})
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    step = run.step("migrations")
    assert step["state"] == "left out" and "wants to be told more" in step["why"]


def test_what_takes_something_away_is_never_a_first_step(machine: Machine, offer: Offer) -> None:
    offer([Archive.of(package("bottle"))])
    clone = clone_of(machine, refusal="no gauges: rain reset", readme="\n    rain init --force\n")
    run = machine.run("onboard", clone, "--json")
    assert run.status == 1 and "no gauges: rain reset" in run.document["failure"]["lines"]
    assert not list(clone.glob("*.dat"))


@pytest.mark.parametrize(
    "words",
    [
        {"question": "Take all rows away? [Y/n]"},
        {"question": "Delete the old list (default: yes)? "},
        {"rows": "1"},
    ],
    ids=["asks", "asks with a default", "rows"],
)
def test_a_first_step_puts_no_row_at_stake(machine: Machine, offer: Offer, words: dict[str, str]) -> None:
    offer([Archive.of(package("bottle"))])
    clone = clone_of(machine, refusal="no gauges yet: run rain init first", **words)
    if "rows" in words:
        with contextlib.closing(sqlite3.connect(clone / "readings.db")) as database:
            database.executescript("create table reading (mm); insert into reading values (12);")
    run = machine.run("onboard", clone, "--json")
    assert run.status == 1 and not (clone / "gauges.dat").exists()


def test_a_first_start_that_only_writes_its_configuration_is_followed_by_a_second(machine: Machine) -> None:
    program = (
        "import http.server, os, pathlib, sys\n\n"
        "if not pathlib.Path('rain_settings.py').exists():\n"
        "    pathlib.Path('rain_settings.py').write_text('gauges = 3\\n')\n    sys.exit('look at rain_settings.py')\n"
        "http.server.HTTPServer(('127.0.0.1', int(os.environ['PORT'])),"
        " http.server.SimpleHTTPRequestHandler).serve_forever()\n"
    )
    clone = machine.clone({"app.py": program})
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert "its first start wrote rain_settings.py and ended" in run.step("server")["remarks"][0]
    machine.run("stop", clone)


def test_a_tool_whose_program_is_no_server_is_onboarded_without_one(machine: Machine, offer: Offer) -> None:
    offer([Archive.of(package("bottle"))])
    tool = "import sys\n\n\ndef main():\n    sys.exit('usage: rain FILE')\n"
    clone = machine.clone(project(tool))
    run = machine.run("onboard", clone, "--json")
    assert run.status == 0 and run.document["servers"] == []
    assert run.states["server"] == run.states["probe"] == "left out"
    remarks = " ".join(run.step("server")["remarks"])
    assert "tried: rain: the server ended with status 1" in remarks and "serve --command" in remarks
    documented = machine.clone({**project(tool), "README.md": "# Rain\n\n## Run\n\n    rain\n"}, "documented")
    assert machine.run("onboard", documented).status == 1  # what is documented is no guess


@pytest.mark.parametrize("complete", [False, True], ids=["a list", "a complete lock"])
def test_the_project_itself_is_in_place_with_a_list_of_requirements(
    machine: Machine, offer: Offer, complete: bool
) -> None:
    bottle = package("bottle")
    offer([Archive.of(bottle)])
    serves = f"import http.server, os\n\n\ndef main():\n    if True:\n{SERVES}"
    listed = locked(bottle) if complete else "bottle\n"
    clone = machine.clone({**project(serves), "requirements.txt": listed})
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert run.step("server")["title"].startswith("rain: ") and (clone / ".venv/bin/rain").exists()
    assert set(machine.run("onboard", clone, "--json").states.values()) == {"kept"}
    machine.run("stop", clone)


def test_a_project_that_cannot_be_built_keeps_what_its_lock_lists(machine: Machine, offer: Offer) -> None:
    bottle = package("bottle")
    offer([Archive.of(bottle)])
    files = project("import http.server, os\n\n\ndef main():\n    if True:\n" + SERVES)
    files["ownbuild.py"] = "raise SystemExit('no builder here')\n"
    clone = machine.clone({**files, "requirements.txt": locked(bottle)})
    run = machine.run("onboard", clone, "--json", "--until", "dependencies")
    step = run.step("dependencies")
    assert run.status == 0 and step["detail"]["laid"] == ["bottle 1.0"]
    assert any("the project itself is not installed" in one for one in step["remarks"])


@pytest.mark.parametrize(
    "imports",
    [
        "import raingauge, rainpaint\n",
        "from importlib.util import find_spec\nif not find_spec('raingauge'):\n"
        "    raise ValueError('raingauge is required for GAUGES')\n",
    ],
    ids=["imported", "asked for"],
)
def test_a_missing_module_brings_the_extra_that_lists_it(
    machine: Machine, offer: Offer, imports: str
) -> None:
    parts = {name: [Archive.of(package(name))] for name in ("bottle", "raingauge", "rainpaint")}
    offer([one for row in parts.values() for one in row])
    serves = f"import http.server, os\n{imports}\n\ndef main():\n    if True:\n{SERVES}"
    files = project(serves)
    files["pyproject.toml"] += (
        "[project.optional-dependencies]\ndev = ['raingauge', 'rainpaint', 'bottle']\n"
        "server = ['raingauge', 'rainpaint']\n"
    )
    clone = machine.clone(files)
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    [remark] = [one for one in run.step("server")["remarks"] if "was missing" in one]
    assert "raingauge was missing: the extra server, which lists raingauge, was installed, too" in remark
    machine.run("stop", clone)
    again = machine.run("onboard", clone, "--json")
    assert again.states["dependencies"] == "kept"  # the extra holds
    machine.run("stop", clone)


def test_a_reloader_whose_main_thread_ended_is_not_waited_for(machine: Machine) -> None:
    program = (
        "import threading, time, http.server\n\n\ndef serve():\n    raise RuntimeError('no gauges')\n\n\n"
        "threading.Thread(target=serve, name='rain-main-thread').start()\ntime.sleep(60)\n"
    )
    clone = machine.clone({"app.py": program, "requirements.txt": ""})
    run = machine.run("onboard", clone, "--json", timeout=40)
    assert run.status == 1 and "RuntimeError: no gauges" in run.document["failure"]["lines"]
    assert "ended" in run.document["failure"]["cause"]


@pytest.mark.parametrize(
    ("question", "status"), [("Key? Leave it empty and press Enter.", 0), ("Press Enter to begin anew:", 1)]
)
def test_a_question_that_enter_answers_is_answered(machine: Machine, question: str, status: int) -> None:
    program = (
        f"import http.server, os\nprint({question!r}, end='', flush=True)\nkey = input()\nassert key == ''\n"
        "http.server.HTTPServer(('127.0.0.1', int(os.environ['PORT'])),"
        " http.server.SimpleHTTPRequestHandler).serve_forever()\n"
    )
    clone = machine.clone({"app.py": program, "requirements.txt": ""})
    run = machine.run("onboard", clone, "--json", timeout=60)
    assert run.status == status, run.document["failure"]
    if status == 0:
        assert any("Enter was pressed for its default" in one for one in run.step("server")["remarks"])
    machine.run("stop", clone)


@pytest.mark.parametrize("answer", ["yes", ""])
def test_on_a_terminal_the_person_says_whether_enter_is_pressed(machine: Machine, answer: str) -> None:
    import pexpect

    program = (
        "import http.server, os\ninput('Which list (default: all)? ')\n"
        "http.server.HTTPServer(('127.0.0.1', int(os.environ['PORT'])),"
        " http.server.SimpleHTTPRequestHandler).serve_forever()\n"
    )
    clone = machine.clone({"app.py": program, "requirements.txt": ""})
    words = ["-m", "plainfall", "onboard", str(clone)]
    variables = {**machine.variables, "TERM": "dumb"}
    child = pexpect.spawn(sys.executable, words, env=variables, timeout=40, encoding="utf-8")
    child.expect("The program asks: Which list")
    child.expect("yes or no")
    child.sendline(answer)
    child.expect(pexpect.EOF)
    child.close()
    assert child.exitstatus == (0 if answer else 1)
    machine.run("stop", clone)


INSTALLS = """\
import http.server, os, sys

def main():
    words = sys.argv[1:]
    if words[:1] == ["install"] and "--help" in words:
        print("Usage: rain install\\n\\n  -u, --username TEXT  who keeps it\\n  --email EMAIL  where\\n  --password TEXT  secret")
    elif words[:1] == ["install"]:
        if "--password" not in words:
            input("Name of the first account: ")
        if input("A database is here. Begin anew? [y/N] ") != "y":
            sys.exit("Aborted!")
        open("installed", "w").write(" ".join(words[:-1]))
    elif "--help" in words:
        print("Commands:\\n  install  makes the first account")
    elif not os.path.exists("installed"):
        sys.exit("no gauges")
    else:
"""


def test_a_first_step_that_wants_an_account_gets_one(machine: Machine, offer: Offer) -> None:
    offer([Archive.of(package("bottle"))])
    files = project(f"{INSTALLS}{SERVES}")
    clone = machine.clone({**files, "README.md": "# Rain\n\n## Run\n\n    rain\n"})
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    remarks = " ".join(run.step("server")["remarks"])
    assert "it asks for a first account: 'admin' was made" in remarks
    written = (clone / "installed").read_text()
    assert (
        written == "install --username admin --email admin@localhost.example --password" or "admin" in written
    )
    account = json.loads((clone / ".plainfall/accounts.json").read_text())["."]
    logs = "".join(path.read_text() for path in (clone / ".plainfall").rglob("*.log"))
    assert account["name"] == "admin" and account["password"] not in logs + run.out


def test_a_module_within_the_package_that_serves_is_found(machine: Machine) -> None:
    """Neither a script, nor a README, nor a file at the top says how it is started."""
    clone = machine.clone(
        {
            "requirements.txt": "",
            "gauges/__init__.py": "",
            "gauges/api/__init__.py": "",
            "gauges/api/__main__.py": "from gauges.api.app import main\n\nif __name__ == '__main__':\n    main()\n",
            "gauges/api/app.py": "import http.server, os\n\n\ndef main():\n"
            "    address = ('127.0.0.1', int(os.environ['PORT']))\n"
            "    http.server.HTTPServer(address, http.server.SimpleHTTPRequestHandler).serve_forever()\n",
            "index.html": "<h1>Rain</h1>",
        }
    )
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    [server] = run.document["servers"]
    assert server["command"] == "python -m gauges.api" and server["probe"]["status"] == 200
