"""The search after a failure: every start command gets every remedy, what does not help is taken back, and what was
found is kept for the next run, or for the team."""

from __future__ import annotations

import ast
import os
import pickle
import pkgutil
import re
import shutil
import signal
import subprocess
import sys
import time
import tomllib
from collections.abc import Iterator
from importlib import import_module
from pathlib import Path

import pytest
from conftest import Machine, package
from test_examples import SERVER, Offer, committed

import plainfall
from plainfall import errors
from plainfall.evidence import Evidence
from plainfall.failure_facts import ModuleMissing, facts_of
from plainfall.failure_kinds import FailureKind
from plainfall.plain_files import NotPlain
from plainfall.standins.registry import Archive

ROOT = Path(plainfall.__file__).parent

FIRST = "raise SystemExit('the first one is broken')\n"
SECOND = SERVER.format(more="import importlib\nimportlib.import_module('gauge' + 'kit')")
README = "# Rain\n\n## Running\n\n```\npython first.py --port 8000\npython second.py --port 8000\n```\n"


@pytest.fixture
def two_commands(machine: Machine, offer: Offer) -> Path:
    offer([Archive.of(package("gaugekit", "1.0"))])
    return machine.clone(
        {
            "pyproject.toml": "[project]\nname = 'rain'\nversion = '1'\n"
            "[project.optional-dependencies]\nmaps = ['gaugekit']\n",
            "first.py": FIRST,
            "second.py": SECOND,
            "README.md": README,
        }
    )


def test_the_second_start_command_gets_the_missing_package_too(machine: Machine, two_commands: Path) -> None:
    run = machine.run("onboard", two_commands, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    remarks = run.step("server")["remarks"]
    assert "instead of python first.py" in remarks[0], remarks
    assert "gaugekit was missing: the extra maps, which lists gaugekit, was installed, too" in remarks[1]
    assert "no list of this clone has it" not in " ".join(remarks)
    assert run.document["servers"][0]["command"].startswith("python second.py")
    again = machine.run("onboard", two_commands, "--json")
    assert set(again.states.values()) <= {"kept", "left out"}


def test_no_attempts_ends_with_the_first_failure(machine: Machine, two_commands: Path) -> None:
    run = machine.run("onboard", two_commands, "--no-attempts", "--json")
    assert run.document["failure"]["cause"].startswith("the server ended with status 1")
    assert any("the first one is broken" in line for line in run.document["failure"]["lines"])
    assert run.step("server")["remarks"] == []
    one = machine.run("onboard", two_commands, "--attempts", "1", "--json")
    assert one.status == 1 and len(one.step("server")["remarks"]) <= 1
    wrong = machine.run("onboard", two_commands, "--attempts", "many")
    assert wrong.status == 2 and "'many' is no number from 0 to 1000" in wrong.err


def test_what_was_found_is_kept_for_the_team(machine: Machine, two_commands: Path) -> None:
    shown = machine.run("onboard", two_commands)
    assert "nobody has to search again with these lines in plainfall.toml" in shown.out + shown.err
    machine.run("stop", two_commands)
    run = machine.run("onboard", two_commands, "--keep-choices", "--json")
    assert run.status == 0, run.out
    assert "nobody has to search again" not in run.err
    text = (two_commands / "plainfall.toml").read_text()
    assert 'command = "python second.py' in text and 'extras = ["maps"]' in text
    machine.run("stop", two_commands)
    other = machine.home / "colleague"
    shutil.copytree(two_commands, other, ignore=shutil.ignore_patterns(".plainfall", ".venv"))
    theirs = machine.run("onboard", other, "--json")
    assert theirs.document["outcome"] == "done", theirs.document["failure"]
    assert not any("before that" in one for one in theirs.step("server")["remarks"])
    machine.run("stop", other)
    again = machine.run("onboard", two_commands, "--keep-choices", "--json")
    assert any("plainfall.toml has decisions for . already" in one for one in again.document["remarks"])
    assert (two_commands / "plainfall.toml").read_text() == text


@pytest.mark.parametrize(
    ("row", "words"),
    [
        ('comand = "x"', "'comand' under [decisions]"),
        ('extras = "web"', "It takes a list of texts"),
        ("secret-key = 1", "It takes true or false"),
        ('own-secrets = ["LD_PRELOAD"]', "It takes names of variables for secrets"),
        ('import-folders = ["../../etc"]', "'../../etc' is no folder inside"),
        ('versions-of = "yesterday"', "It takes a day"),
        ('release = "=== what"', "It takes a name with versions"),
        ('packages = ["--index-url http://x.example/"]', "It takes a name with versions"),
        ('command = "sudo gauges serve"', "needs no other user"),
    ],
)
def test_a_wrong_line_of_the_teams_decisions_is_named(machine: Machine, row: str, words: str) -> None:
    clone = machine.clone(
        {
            "app.py": SERVER.format(more=""),
            "plainfall.toml": f"[decisions]\n{row}\n",
            "Procfile": "web: python app.py\n",
        }
    )
    run = machine.run("onboard", clone)
    assert run.status == 1 and words in " ".join(run.err.split()), run.err
    assert "plainfall.toml:2" in run.err


def test_a_search_that_is_interrupted_leaves_nothing_running(machine: Machine, two_commands: Path) -> None:
    words = [sys.executable, "-m", "plainfall", "onboard", str(two_commands)]
    for seconds in (0.5, 0.8, 1.1):
        run = subprocess.Popen(
            words, env=machine.variables, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        time.sleep(seconds)
        run.send_signal(signal.SIGINT)
        assert run.wait(20) in (130, 0, -signal.SIGINT)
        if run.returncode:
            assert not machine.run("stop", two_commands).out.startswith("ended ")
        else:
            machine.run("stop", two_commands)
    assert machine.run("onboard", two_commands, "--json").document["outcome"] == "done"


def test_a_search_that_is_killed_leaves_a_clone_that_comes_up(machine: Machine, two_commands: Path) -> None:
    for seconds in (0.8, 1.2, 1.6, 2.0):
        words = [sys.executable, "-m", "plainfall", "onboard", str(two_commands)]
        run = subprocess.Popen(
            words, env=machine.variables, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        time.sleep(seconds)
        os.kill(run.pid, signal.SIGKILL)
        run.wait()
    done = machine.run("onboard", two_commands, "--json")
    assert done.document["outcome"] == "done", done.document["failure"]
    assert set(machine.run("onboard", two_commands, "--json").states.values()) <= {"kept", "left out"}


def _classes() -> Iterator[type[errors.PlainfallError]]:
    for one in pkgutil.walk_packages([str(ROOT)], "plainfall."):
        if one.name.endswith("__main__") or ".library." in one.name:
            continue
        for value in vars(import_module(one.name)).values():
            if isinstance(value, type) and issubclass(value, errors.PlainfallError):
                yield value


def test_every_error_survives_the_way_from_a_worker() -> None:
    """What cannot be unpickled breaks the pool of workers, and ends the program."""
    for kind in set(_classes()):
        error = kind(
            "it broke",
            remedy="mend it",
            place=Evidence("app.py", 3),
            lines=("a", "b"),
            rule=FailureKind.MODULE_MISSING,
            facts=ModuleMissing(module="gaugekit"),
            command="python app.py",
            another_may_do=True,
            fault="endless",
        )
        again = pickle.loads(pickle.dumps(error))
        assert type(again) is kind and vars(again) == vars(error)
    again = pickle.loads(pickle.dumps(NotPlain("a/b", "it is not a plain file")))
    assert (again.filename, again.strerror) == ("a/b", "it is not a plain file")


def test_every_rule_has_its_kind_and_every_kind_its_rule() -> None:
    rules = tomllib.loads((ROOT / "diagnosis/rules.toml").read_text("utf-8"))["rule"]
    made_out = {
        FailureKind.UNKNOWN,
        FailureKind.PROGRAM_MISSING,
        FailureKind.BUILD_FAILED,
        FailureKind.BUILD_TOOLS,
    }
    assert {FailureKind(one["id"]) for one in rules} == set(FailureKind) - made_out


_SENTENCES = {"cause", "remedy", "reason", "why", "title", "remark"}


def test_no_sentence_for_people_decides() -> None:
    """Outside the view nothing looks into what is written for people: facts have fields of their own."""
    found = []
    for path in ROOT.rglob("*.py"):
        if {"cli", "standins"} & set(path.relative_to(ROOT).parts):
            continue
        for node in ast.walk(ast.parse(path.read_text())):
            asked: list[ast.expr] = []
            if isinstance(node, ast.Compare) and any(isinstance(one, ast.In | ast.NotIn) for one in node.ops):
                asked = node.comparators
            elif isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute):
                if node.func.attr in ("startswith", "endswith", "partition", "removeprefix", "split"):
                    asked = [node.func.value]
                elif node.func.attr in ("search", "match", "fullmatch", "findall"):
                    asked = node.args
            found += [
                f"{path}:{one.lineno}"
                for one in asked
                if isinstance(one, ast.Attribute) and one.attr in _SENTENCES
            ]
    assert found == []


def test_remedies_propose_and_do_nothing() -> None:
    """They read: no stage is called from one, no record is written, no process started."""
    for path in (ROOT / "onboarding/remedies").glob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Call):
                name = ast.unparse(node.func)
                assert not name.startswith(("work.state.keep", "work.state.forget", "carry_out")), (
                    path,
                    name,
                )
                assert name not in ("run", "start", "start_server", "stop_server"), (path, name)
            if isinstance(node, ast.Assign):
                assert not any(ast.unparse(one).startswith("work.") for one in node.targets), path


def test_the_root_of_a_chain_is_said_first(machine: Machine) -> None:
    """The build of the project fails, so its program is not there: the build is what counts."""
    clone = machine.clone(
        {
            "pyproject.toml": "[build-system]\nrequires = []\nbuild-backend = 'ownbuild'\nbackend-path = ['.']\n"
            "[project]\nname = 'gauges'\nversion = '1'\nscripts = {gauges = 'gauges.app:main'}\n",
            "ownbuild.py": "def build_editable(*_, **__):\n    raise OSError('the rain table is missing')\n\n\n"
            "build_wheel = build_editable\n",
            "gauges/__init__.py": "",
            "gauges/app.py": "def main():\n    pass\n",
            "README.md": "# Rain\n\n## Running\n\n```\ngauges serve --port 8000\n```\n",
        }
    )
    run = machine.run("onboard", clone, "--json")
    failure = run.document["failure"]
    assert "the project itself is not installed: gauges" in failure["cause"], failure
    said = [line for line in failure["lines"] if "the rain table is missing" in line or "so later:" in line]
    assert "the rain table is missing" in said[0] and said[-1].startswith("so later: "), failure["lines"]
    again = machine.run("onboard", clone, "--json").document["failure"]
    assert "the project itself is not installed: gauges" in again["cause"]


@pytest.mark.needs("git")
def test_a_settings_file_is_made_of_its_sample(machine: Machine) -> None:
    """The program names it, and ends; its sample lies beside."""
    more = (
        "import pathlib\nif not pathlib.Path('gauges.conf').exists():\n"
        "    raise SystemExit('You should write a configuration: ./gauges.conf')"
    )
    files = {"app.py": SERVER.format(more=more), "requirements.txt": "", "Procfile": "web: python app.py\n"}
    clone = committed(machine.clone({**files, "gauges.conf-dist": "servers={\n  'main': {}\n}\n"}))
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    [remark] = [one for one in run.step("server")["remarks"] if "gauges.conf was missing" in one]
    assert "it was made of gauges.conf-dist" in remark and (clone / "gauges.conf").read_text().startswith(
        "servers="
    )
    status = subprocess.run(["git", "status", "--short"], cwd=clone, capture_output=True, text=True)
    assert status.stdout == ""
    machine.run("stop", clone)
    assert machine.run("clear", clone).status == 0 and not (clone / "gauges.conf").exists()


def test_a_documented_command_is_tried_where_the_page_of_the_first_fails(machine: Machine) -> None:
    """A framework's own command starts the program; the README's gives it what its page wants."""
    page = SERVER.format(more="import sys\nGIVEN = sys.argv[1:]").replace(
        "http.server.test(http.server.SimpleHTTPRequestHandler,",
        "class Page(http.server.SimpleHTTPRequestHandler):\n"
        "    def do_GET(self):\n"
        "        self.send_response(200 if GIVEN else 500)\n        self.end_headers()\n"
        "        self.wfile.write(b'<h1>Rain</h1>')\n\n\nhttp.server.test(Page,",
    )
    readme = "# Rain\n\n## Running\n\n```\npython app.py --table stations --port 8000\n```\n"
    clone = machine.clone(
        {"app.py": page, "requirements.txt": "", "Procfile": "web: python app.py\n", "README.md": readme}
    )
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert "--table stations" in run.document["servers"][0]["command"]
    assert any("instead of python app.py" in one for one in run.step("probe")["remarks"])
    assert set(machine.run("onboard", clone, "--json").states.values()) <= {"kept", "left out"}


def test_an_extra_that_the_program_names_is_installed(machine: Machine, offer: Offer) -> None:
    offer([Archive.of(package("gaugekit", "1.0"))])
    more = (
        "try:\n    import importlib\n    importlib.import_module('gauge' + 'kit')\nexcept ImportError as error:\n"
        "    raise SystemExit(f'a part is missing; install it with: pip install rain[web]')"
    )
    clone = machine.clone(
        {
            "pyproject.toml": "[project]\nname = 'rain'\nversion = '1'\n"
            "[project.optional-dependencies]\nweb = ['gaugekit']\n",
            "app.py": SERVER.format(more=more),
            "Procfile": "web: python app.py\n",
        }
    )
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert any(
        "its output asks for rain[web]: web was installed, too" in one
        for one in run.step("server")["remarks"]
    )


def test_every_group_of_a_rule_goes_into_the_facts_of_its_kind() -> None:
    """The struct of a kind takes what its pattern names, and the cause shows that."""
    for rule in tomllib.loads((ROOT / "diagnosis/rules.toml").read_text("utf-8"))["rule"]:
        for group in re.findall(r"\(\?P<(\w+)>", rule.get("pattern", "")):
            facts = facts_of(FailureKind(rule["id"]), {group: "gaugekit"})
            assert "gaugekit" in facts.named, rule["id"]
            assert pickle.loads(pickle.dumps(facts)) == facts
