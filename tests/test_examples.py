"""Clones as people have them: an application in a folder of a library, no list at all, versions of another time, start
commands that do not work, and steps that stand elsewhere than in the README."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Machine, package
from msgspec.structs import replace
from test_building import tree

from plainfall.clone.walk import walk
from plainfall.ecosystems.python.clients.bundled import bundled_client
from plainfall.ecosystems.python.frameworks.django import recognise as recognise_django
from plainfall.ecosystems.python.recognise.additions import named_elsewhere
from plainfall.ecosystems.python.recognise.applications import applications
from plainfall.ecosystems.python.recognise.imports import answers, imported_modules
from plainfall.onboarding.run.clone_root import CloneFolder, clone_of
from plainfall.repository import last_commit_time, repository_of
from plainfall.standins.registry import Archive, Registry
from plainfall.surroundings import Surroundings
from plainfall.survey.look import look

Offer = Callable[..., Registry]
SERVER = (
    "import http.server, os\n{more}\n"
    "http.server.test(http.server.SimpleHTTPRequestHandler, port=int(os.environ['PORT']), bind='127.0.0.1')\n"
)


def committed(folder: Path, when: str = "2026-11-01T12:00:00 +0000") -> Path:
    """The folder as a repository with one commit of that time."""
    dates = {**os.environ, "GIT_AUTHOR_DATE": when, "GIT_COMMITTER_DATE": when}
    me = ["-c", "user.name=volunteer", "-c", "user.email=volunteer@rain.example"]
    for words in (["init", "-q"], ["add", "-A"], [*me, "commit", "-q", "-m", "as it is"]):
        subprocess.run(["git", *words], cwd=folder, check=True, capture_output=True, env=dates)
    return folder


def library(machine: Machine, files: dict[str, str]) -> Path:
    """A library named rain that is built by its own backend, with further files, as a repository."""
    own = tree("rain")
    own["pyproject.toml"] += "[project.optional-dependencies]\nmaps = ['mapkit']\n"
    return committed(machine.clone({**own, "rain.py": "DROPS = 3\n", **files}))


@pytest.mark.needs("git")
def test_an_example_gets_the_library_above_and_what_an_extra_names(machine: Machine, offer: Offer) -> None:
    offer([Archive.of(package("mapkit")), Archive.of(package("otherkit"))])
    main = SERVER.format(more="import mapkit, rain\nassert rain.DROPS == 3")
    clone = library(machine, {"examples/gauge/app.py": main})
    run = machine.run("onboard", clone / "examples/gauge", "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert {step["part"] for step in run.document["steps"]} == {"examples/gauge"}
    assert run.document["clone"] == str(clone) and not (clone / "examples/gauge/.plainfall").exists()
    step = run.step("dependencies")
    assert sorted(step["detail"]["laid"]) == ["mapkit 1.0", "rain 1.0"]
    assert any("mapkit" in one and "pyproject.toml" in one for one in step["remarks"])
    # From anywhere in the clone the same server is meant.
    assert machine.run("probe", clone / "examples/gauge", "--json").status == 0
    again = machine.run("onboard", clone, "--part", "examples/gauge", "--json")
    assert set(again.states.values()) == {"kept"}
    inside = machine.run("inside", clone, "--part", "examples/gauge", "--", "python", "-c", "import rain")
    assert inside.status == 0, inside.err
    stopped = machine.run("stop", clone / "examples", "--json").document["stopped"]
    assert [one["part"] for one in stopped] == ["examples/gauge"]


@pytest.mark.needs("git")
def test_an_example_is_not_started_with_the_library(machine: Machine, offer: Offer) -> None:
    offer([])
    clone = library(machine, {"examples/gauge/app.py": SERVER.format(more="")})
    survey, _ = look(clone)
    assert [part.path for part in survey.parts] == [""] and survey.parts[0].candidates("server") == []
    wrong = machine.run("onboard", clone, "--part", "nowhere")
    assert wrong.status == 2 and "nowhere is no part of this clone" in wrong.err


@pytest.mark.needs("git")
def test_a_folder_within_a_part_stands_for_the_part(machine: Machine) -> None:
    clone = committed(
        machine.clone({"app.py": SERVER.format(more=""), "pages/app.py": "", "pages/a.html": "a"})
    )
    run = machine.run("onboard", clone / "pages", "--until", "environment", "--json")
    assert {step["part"] for step in run.document["steps"]} == {""} and run.document["clone"] == str(clone)
    # A repository in it is a clone of its own, and one that does not know a folder is not that folder's clone.
    other = committed(machine.clone({"app.py": SERVER.format(more="")}, "gauges/other"))
    run = machine.run("onboard", other, "--until", "environment", "--json")
    assert run.document["clone"] == str(other)
    around = committed(machine.clone({"a.txt": ""}, "around"))
    mine = machine.clone({"app.py": SERVER.format(more="")}, "around/mine")
    run = machine.run("onboard", mine, "--until", "environment", "--json")
    assert run.document["clone"] == str(mine) and not (around / ".plainfall").exists()


def test_imports_that_no_list_names_are_installed_only_when_somebody_says_so(
    machine: Machine, offer: Offer
) -> None:
    offer([Archive.of(package("gaugekit")), Archive.of(package("pyyaml"))])
    text = "import json, yaml\nfrom gaugekit import VERSION\ntry:\n    import optional\nexcept ImportError:\n    pass\n"
    clone = machine.clone({"app.py": SERVER.format(more=text)})
    run = machine.run("onboard", clone, "--json", "--no-input")
    failure = run.document["failure"]
    assert (
        run.status == 3 and "pyyaml, gaugekit" in failure["cause"] and "--from-imports" in failure["remedy"]
    )
    assert failure["evidence"][0]["line"] == 2 and "gaugekit: app.py:3" in failure["lines"]
    taken = machine.run("onboard", clone, "--from-imports", "--json", "--until", "dependencies")
    assert sorted(taken.step("dependencies")["detail"]["laid"]) == ["gaugekit 1.0", "pyyaml 1.0"]
    assert machine.run("onboard", clone, "--json", "--until", "dependencies").states["dependencies"] == "kept"


def test_only_what_surely_is_imported_counts(tmp_path: Path) -> None:
    (tmp_path / "app.py").write_text(
        "from typing import TYPE_CHECKING\nimport os, near, far.away\nfrom . import here\nif TYPE_CHECKING:\n"
        "    import types_only\nif os.name == 'nt':\n    import windows\nif __name__ == '__main__':\n    import served\n"
        "INSTALLED_APPS = ['django.contrib.admin', 'rest_framework', 'near']\nimport distutils\n"
    )
    (tmp_path / "near.py").write_text("import broken syntax")
    (tmp_path / "tests").mkdir()
    (tmp_path / "tests/test_app.py").write_text("import testkit\n")
    assert list(imported_modules(walk(tmp_path), "")) == ["far", "served", "django", "rest_framework"]
    assert answers("djangorestframework", "rest_framework") and answers("python-dateutil", "dateutil")
    assert answers("django-guardian", "guardian") and not answers("guard", "guardian")


@pytest.mark.needs("git")
def test_the_lock_of_the_library_decides_where_there_is_a_choice(machine: Machine, offer: Offer) -> None:
    old, new = package("gaugekit", "1.0"), package("gaugekit", "2.0")
    offer([Archive.of(old), Archive.of(new)])
    source = 'source = { registry = "https://registry.example/simple" }'
    lock = (
        f'version = 1\nrequires-python = ">=3.8"\n\n[[package]]\nname = "gaugekit"\nversion = "1.0"\n{source}\n'
        f'wheels = [{{ url = "https://registry.example/gaugekit-1.0-py3-none-any.whl", hash = "sha256:{old.sha256}" }}]\n\n'
        '[[package]]\nname = "rain"\nversion = "1.0"\nsource = { editable = "." }\n'
        'dependencies = [{ name = "gaugekit" }]\n'
    )
    files = {**tree("rain", requires="gaugekit"), "rain.py": "DROPS = 3\n", "uv.lock": lock}
    main = SERVER.format(more="import gaugekit, rain")
    clone = committed(machine.clone({**files, "examples/gauge/app.py": main}))
    run = machine.run("onboard", clone / "examples/gauge", "--json", "--until", "dependencies")
    assert sorted(run.step("dependencies")["detail"]["laid"]) == ["gaugekit 1.0", "rain 1.0"]


def test_the_interpreters_own_pip_is_put_into_the_environment_if_asked(machine: Machine) -> None:
    clone = machine.clone({"app.py": SERVER.format(more=""), "requirements.txt": "\n"})
    words = ("onboard", clone, "--until", "dependencies", "--json")
    run = machine.run(*words, "--with-pip")
    python = (
        Path(run.step("runtime")["detail"]["chosen"]["path"]) if run.status == 0 else Path(sys.executable)
    )
    if bundled_client(python) is None:
        assert run.status == 1 and "bundles no pip" in run.document["failure"]["cause"]
        return
    assert run.document["outcome"] == "done", run.document["failure"]
    asked = machine.run("inside", clone, "--", "pip", "--version")
    assert str(clone / ".venv") in asked.out
    # It is remembered, for an environment that is made anew, too.
    assert set(machine.run(*words).states.values()) == {"kept"}
    shutil.rmtree(clone / ".venv")
    again = machine.run(*words)
    assert [one.split()[0] for one in again.step("dependencies")["detail"]["laid"]] == ["pip"]


CLIENTS = ("uv", "poetry", "pipenv", "pdm", "hatch", "rye", "pip", "pip3")


def test_no_package_client_of_the_machine_is_run_by_a_projects_scripts(
    machine: Machine, tmp_path: Path
) -> None:
    theirs = tmp_path / "theirs"
    theirs.mkdir()
    for name in CLIENTS:
        (theirs / name).write_text("#!/bin/sh\ntouch " + str(tmp_path / "was-run") + "\n")
        (theirs / name).chmod(0o755)
    machine.variables["PATH"] = f"{theirs}{os.pathsep}{machine.variables['PATH']}"
    start = (
        "#!/bin/sh\nset -e\nuv sync --all-extras\npoetry install\npip install -r requirements.txt\n"
        "pdm run ready\nexec uv run --group dev poetry run python app.py\n"
    )
    files = {
        "app.py": SERVER.format(more="import os; assert os.environ['PYTHONPATH'] == 'x'"),
        "start.sh": start,
        "Procfile": "web: PYTHONPATH=x sh start.sh\n",
        "pyproject.toml": "[tool.pdm.scripts]\nready = \"python -c \\\"open('ready.txt', 'w')\\\"\"\n",
        "requirements.txt": "\n",
    }
    clone = machine.clone(files)
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert (clone / "ready.txt").exists() and not (tmp_path / "was-run").exists()
    (clone / "pyproject.toml").write_text("[tool.pdm.scripts]\nready = 'pdm run ready'\n")
    round_and_round = machine.run("inside", clone, "--", "pdm", "run", "ready")
    assert round_and_round.status == 1 and "again and again" in round_and_round.err
    added = machine.run("inside", clone, "--", "poetry", "add", "gaugekit")
    assert added.status == 1 and "plainfall onboard" in added.err
    # A documented line is its last command, in the part's environment.
    files = {
        "app.py": SERVER.format(more=""),
        "README.md": "# Rain\n\n## Run\n\n    uv sync --all-extras && uv run --group dev python app.py\n",
    }
    other = machine.clone(files, "other")
    run = machine.run("onboard", other, "--json")
    assert run.document["servers"][0]["command"] == "python app.py" and not (tmp_path / "was-run").exists()


def test_a_line_of_a_tox_file_or_of_the_readme_names_a_package(tmp_path: Path) -> None:
    (tmp_path / "tox.ini").write_text(
        "[testenv]\ndeps =\n    py311: gaugekit>=2\n    -r{toxinidir}/more.txt\n"
    )
    (tmp_path / "README.md").write_text("Run `pip install 'rain[all]' mapkit -e .` first.\n")
    (tmp_path / "setup.py").write_text(
        "from setuptools import setup\nMORE = ['dropkit']\nsetup(name='rain', install_requires=['a'] + MORE,\n"
        "      extras_require={'x': MORE, 'y': ['seekit']})\n"
    )
    found = {
        name: named_elsewhere(walk(tmp_path), "", name) for name in ("gaugekit", "mapkit", "seekit", "nokit")
    }
    assert [one and one.text for one in found.values()] == ["gaugekit>=2", "mapkit", "seekit", None]
    place = found["gaugekit"]
    assert place is not None and str(place.evidence) == "tox.ini:3"


def test_the_next_start_command_is_tried_and_remembered(machine: Machine) -> None:
    files = {
        "app.py": SERVER.format(more=""),
        "other.py": "import sys; sys.exit('usage: other.py COMMAND')\n",
        "README.md": "# Rain\n\n## Run\n\n    python other.py\n",
        "Procfile.dev": "web: python other.py\n",
    }
    clone = machine.clone(files)
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    server = run.step("server")
    assert (
        server["title"].startswith("python app.py") and "instead of python other.py" in server["remarks"][0]
    )
    machine.run("stop", clone)
    again = machine.run("onboard", clone, "--json").step("server")
    assert again["title"].startswith("python app.py") and "instead of" not in " ".join(again["remarks"])
    machine.run("stop", clone)
    chosen = machine.run("serve", clone, "--command", "python other.py", "--background", "--json")
    assert chosen.status == 1 and "usage" in " ".join(chosen.document["failure"]["lines"])


@pytest.mark.parametrize(
    ("files", "line"),
    [
        ({"CONTRIBUTING.md": "# Developing\n\n```sh\nflask --debug run\n```\n"}, "flask --debug run"),
        ({"docs/installation.rst": "Run\n===\n\n.. code-block:: sh\n\n   python -m rain serve\n"}, "python -m rain serve"),
        ({"Makefile": "run: setup\n\t@$(PYTHON) -m rain serve\n"}, "python -m rain serve"),
        ({"Makefile": "run:\n\tdocker compose up\n"}, None),
        ({"README.md": "# Rain\n\n```\n$ rain --host=0.0.0.0 --port=80\n```\n"}, "rain --host=0.0.0.0 --port=80"),
        ({"README.md": "# Rain\n\nStart it via the command `rain`, then look.\n"}, "rain"),
        ({"README.md": "# Rain\n\nRun `rain --help` first.\n"}, None),
        ({"README.md": "# Rain\n\n## Run\n\n    ExecStart=/bin/rain --port 80\n    /usr/bin/rain --port 80\n"}, None),
        ({"README.md": "# Rain\n\n## Run\n\n    ./bin/rain -d $HOME/data --port 80\n"}, "rain -d .plainfall/folder --port 80"),
        ({"docs/quickstart.md": "# Run\n\n```\nrain -c /path/to/rain.cfg up --port 80\n```\n", "rain.cfg": "a"}, "rain -c rain.cfg up --port 80"),
    ],
)  # fmt: skip
def test_start_commands_stand_elsewhere_too(tmp_path: Path, files: dict[str, str], line: str | None) -> None:
    manifest = "[project]\nname = 'rain'\nversion = '1'\n[project.scripts]\nrain = 'rain.cli:main'\n"
    for path, text in {"pyproject.toml": manifest, "rain/cli.py": "", **files}.items():
        (tmp_path / path).parent.mkdir(exist_ok=True, parents=True)
        (tmp_path / path).write_text(text)
    part = look(tmp_path)[0].parts[0]
    assert [one.line for one in part.candidates("server") if one.rank > 1][:1] == ([line] if line else [])


def test_a_server_of_a_configuration_file(tmp_path: Path) -> None:
    files = {
        "setup.py": "from setuptools import setup\nsetup(name='rain', install_requires=['pyramid'], entry_points={\n"
        "    'console_scripts': ['initialize_rain_db = rain.setup:main'], 'paste.app_factory': ['main = rain:main']})\n",
        "rain/setup.py": "",
        "production.ini": "[app:main]\nuse = egg:rain\n[server:main]\nuse = egg:waitress#main\n",
        "development.ini": "[app:main]\nuse = egg:rain\n\n[server:main]\nuse = egg:waitress#main\n",
    }
    for path, text in files.items():
        (tmp_path / path).parent.mkdir(exist_ok=True)
        (tmp_path / path).write_text(text)
    part = look(tmp_path)[0].parts[0]
    assert part.candidates("server")[0].line == "pserve development.ini --reload"
    assert part.candidates("migrations")[0].line.endswith('sys.exit(main())" development.ini')


@pytest.mark.parametrize(
    ("model", "variables"),
    [
        ("class Volunteer(AbstractUser):\n    pass\n", {"DJANGO_SUPERUSER_EMAIL"}),
        (
            "class Volunteer(AbstractBaseUser):\n    USERNAME_FIELD = 'email'\n    REQUIRED_FIELDS = ['station']\n\n"
            "class Other:\n    REQUIRED_FIELDS = ['no']\n",
            {"DJANGO_SUPERUSER_STATION"},
        ),
        ("class Other(AbstractUser):\n    pass\n", None),
    ],
)
def test_an_administrator_of_a_user_model_of_its_own(
    tmp_path: Path, model: str, variables: set[str] | None
) -> None:
    files = {
        "manage.py": "from django.core.management import execute_from_command_line\n",
        "site/settings.py": "INSTALLED_APPS = ['django.contrib.admin']\nAUTH_USER_MODEL = 'gauges.Volunteer'\n",
        "gauges/models.py": model,
        "gauges/views/manage.py": "import django\n",
    }
    for path, text in files.items():
        (tmp_path / path).parent.mkdir(exist_ok=True, parents=True)
        (tmp_path / path).write_text(text)
    found = recognise_django(walk(tmp_path), "", frozenset({"django"}))
    assert found is not None
    made = found.administrator
    assert (set(made.more) if made else None) == variables
    if variables == {"DJANGO_SUPERUSER_STATION"}:
        assert made is not None and made.name_variable == "DJANGO_SUPERUSER_EMAIL" and "@" in made.name


@pytest.mark.needs("git")
def test_tracked_files_are_known_whatever_their_names(tmp_path: Path) -> None:
    """A folder named like an extension of the index once hid every tracked file."""
    (tmp_path / "docs/link").mkdir(parents=True)
    (tmp_path / "docs/link/1234567890123456789012345.md").write_text("x")
    (tmp_path / ".env").write_text("A=1\n")
    committed(tmp_path)
    repository = repository_of(tmp_path)
    assert repository is not None and repository.is_tracked(tmp_path / ".env")
    when = last_commit_time(tmp_path, {"PATH": os.environ["PATH"]})
    assert when is not None and when.isoformat() == "2026-11-01T12:00:00+00:00"


def test_the_package_client_inside_works_on_the_parts_environment(machine: Machine) -> None:
    clone = machine.clone({"app.py": SERVER.format(more="")})
    assert machine.run("onboard", clone, "--until", "environment").status == 0
    told = machine.run("inside", clone, "--", "pip", "--version")
    assert told.status == 0 and "-none-any.whl" in told.out, told.err  # what the runtime brings
    prefix = machine.run("inside", clone, "--", "pip", "config", "debug")
    assert str(clone / ".venv") in prefix.out


@pytest.mark.needs("git")
def test_asking_for_the_last_commit_runs_nothing_of_the_clones_choosing(tmp_path: Path) -> None:
    clone = tmp_path / "clone"
    clone.mkdir()
    (clone / "a.txt").write_text("a")
    committed(clone)
    mark = tmp_path / "mark"
    with (clone / ".git/config").open("a") as file:
        file.write(
            f"[core]\n\tfsmonitor = touch {mark}\n\tpager = touch {mark}\n\tsshCommand = touch {mark}\n"
            "[extensions]\n\tpartialClone = origin\n[remote \"origin\"]\n\tpromisor = true\n"
            f"\turl = ext::touch {mark}\n[protocol \"ext\"]\n\tallow = always\n[log]\n\tshowSignature = true\n"
            f"[gpg]\n\tprogram = touch {mark}\n"
        )  # fmt: skip
    assert last_commit_time(clone, {"PATH": os.environ["PATH"]}) is not None
    head = (clone / ".git" / (clone / ".git/HEAD").read_text().split()[1]).read_text().strip()
    (clone / ".git/objects" / head[:2] / head[2:]).unlink()
    assert last_commit_time(clone, {"PATH": os.environ["PATH"]}) is None
    assert not mark.exists()


@pytest.mark.needs("git")
def test_a_folder_of_another_owner_is_no_clone(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "examples").mkdir()
    (tmp_path / "examples/app.py").write_text("")
    committed(tmp_path)
    here = Surroundings({}, tmp_path, tmp_path.parent / "home", tmp_path / "cache", tmp_path / "state")
    assert clone_of(tmp_path / "examples", here) == CloneFolder(tmp_path, "examples")
    assert clone_of(tmp_path / "examples", replace(here, home=tmp_path)).folder == ""
    monkeypatch.setattr("os.geteuid", lambda: 12345)
    assert clone_of(tmp_path / "examples", here) == CloneFolder(tmp_path / "examples")


def test_a_program_of_the_project_is_started_with_the_word_that_its_help_names(
    machine: Machine, offer: Offer
) -> None:
    offer([Archive.of(package("bottle"))])
    files = tree("rain", requires="bottle")
    files["pyproject.toml"] += "[project.scripts]\nrain = 'rain:main'\n"
    entry = "    members[info + 'entry_points.txt'] = '[console_scripts]\\nrain = rain:main\\n'\n"
    files["ownbuild.py"] = files["ownbuild.py"].replace(
        "    members = dict(members)\n", "    members = dict(members)\n" + entry
    )
    files["rain.py"] = (
        "import argparse, http.server\n\n\ndef main():\n    parser = argparse.ArgumentParser()\n"
        "    words = parser.add_subparsers(dest='word', required=True)\n    words.add_parser('measure')\n"
        "    words.add_parser('serve').add_argument('--port', type=int, default=1)\n    options = parser.parse_args()\n"
        "    handler = http.server.SimpleHTTPRequestHandler\n"
        "    http.server.HTTPServer(('127.0.0.1', options.port), handler).serve_forever()\n"
    )
    clone = machine.clone(files)
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    server = run.step("server")
    assert server["title"].startswith("rain serve --port") and "--help names 'serve'" in server["why"]
    machine.run("stop", clone)
    again = machine.run("onboard", clone, "--json")
    assert again.document["outcome"] == "done" and "instead of" not in " ".join(
        again.step("server")["remarks"]
    )
    machine.run("stop", clone)


def test_a_manifest_whose_keywords_are_gathered_first(tmp_path: Path) -> None:
    (tmp_path / "setup.py").write_text(
        "from setuptools import setup\nparams = dict(name='rain', install_requires=['gaugekit'])\nsetup(**params)\n"
    )
    listed = look(tmp_path)[0].parts[0].dependencies
    assert listed is not None and listed.names == ("gaugekit",)


def test_a_factory_that_wants_arguments_is_no_application(tmp_path: Path) -> None:
    (tmp_path / "requirements.txt").write_text("flask\n")
    for text, found in (
        ("def create_app(config):", 0),
        ("def create_app(config=None, *more):", 1),
        ("def create_app():", 1),
    ):
        (tmp_path / "app.py").write_text(f"from flask import Flask\n{text}\n    return Flask('x')\n")
        assert len(applications(walk(tmp_path), "", "Flask")) == found, text
