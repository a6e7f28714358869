"""What in a clone is a part, and what belongs to one: sides, copies of other projects, templates."""

from __future__ import annotations

import json
import os
from pathlib import Path

import pytest
from conftest import SERVER, Machine

from plainfall.clone.walk import walk
from plainfall.diagnosis.reading import lines_that_matter
from plainfall.ecosystems.python.frameworks.django import recognise as recognise_django
from plainfall.ecosystems.python.runtime.asks import python_with
from plainfall.ecosystems.python.runtime.interpreters import python_interpreters
from plainfall.runtimes.interpreters import Interpreter
from plainfall.surroundings import Surroundings
from plainfall.survey.look import look


def test_one_program_is_one_part(tmp_path: Path) -> None:
    manage = "from django.core.management import execute_from_command_line\n"
    for path, text in {"requirements.txt": "django\n", "site/manage.py": manage, "tools/x.txt": ""}.items():
        (tmp_path / path).parent.mkdir(exist_ok=True)
        (tmp_path / path).write_text(text)
    survey, _ = look(tmp_path)
    assert [part.path for part in survey.parts] == [""]
    assert survey.parts[0].candidates("server")[0].line.startswith("python site/manage.py")


def test_a_program_at_the_top_is_no_part_beside_one_with_lists(tmp_path: Path) -> None:
    program = "from fastapi import FastAPI\napp = FastAPI()\nif __name__ == '__main__':\n    app.run()\n"
    for path, text in {
        "tool.py": program,
        "service/manage.py": "import django",
        "service/requirements/dev.txt": "fastapi\n",
    }.items():
        (tmp_path / path).parent.mkdir(exist_ok=True, parents=True)
        (tmp_path / path).write_text(text)
    assert [part.path for part in look(tmp_path)[0].parts] == ["service"]
    alone = tmp_path / "alone"
    alone.mkdir()
    (alone / "tool.py").write_text(program)
    assert [part.path for part in look(alone)[0].parts] == [""]


def test_sides_and_copies_of_other_projects_are_no_parts(machine: Machine) -> None:
    package_text = '{"name": "chart", "main": "chart.js", "scripts": {"test": "true"}}'
    clone = machine.clone(
        {
            "requirements.txt": "bottle\n",
            "app.py": "import bottle\nbottle.run()\n",
            ".github/requirements.txt": "a\n",
            "rain/static/components/chart/package.json": package_text,
            "examples/page/package.json": package_text,
            "page/package.json": '{"name": "page", "scripts": {"dev": "node page.js"}}',
        },
    )
    parts = [one.path for one in look(clone)[0].parts]
    assert parts == ["", "page"]
    assert [one.path for one in look(clone, folder="examples/page")[0].parts] == ["examples/page"]


def test_what_a_container_serves_is_no_start_command(machine: Machine) -> None:
    clone = machine.clone(
        {
            "requirements.txt": "bottle\n",
            "README.md": "# Rain\n\n## Run\n\n    docker run -p 80:80 rain\n\n    python gauges --port 8080\n",
            "gauges": "#!/usr/bin/env python\n",
        },
    )
    assert [one.line for one in look(clone)[0].parts[0].candidates("server")] == ["python gauges --port 8080"]


def test_a_template_of_a_project_is_no_project(machine: Machine) -> None:
    manage = "import django.core.management\ndjango.core.management.execute_from_command_line()\n"
    clone = machine.clone({"rain/project_template/manage.py": manage})
    assert recognise_django(walk(clone), "", frozenset({"django"})) is None
    clone = machine.clone({"site/manage.py": manage})
    assert recognise_django(walk(clone), "", frozenset({"django"})) is not None


@pytest.mark.parametrize(
    "line",
    ["\x1b[31;1merror: no gauges\x1b[0m", "\x1b]0;rain\x07error: no gauges", "error:\x1b[2K no gauges"],
)
def test_what_a_terminal_takes_as_commands_is_not_shown(line: str) -> None:
    assert lines_that_matter(line) == ("error: no gauges",)


@pytest.mark.parametrize(
    "line",
    [
        "grep -q x /etc/rain.conf || printf x | sudo tee -a /etc/rain.conf",
        "echo start > /etc/rain",
        "python gauges run >> ~/.profile",
        "python gauges run | tee -a /var/rain",
    ],
)
def test_a_documented_line_that_changes_the_machine_is_never_run(machine: Machine, line: str) -> None:
    files = {
        "requirements.txt": "",
        "app.py": "",
        "gauges": "",
        "README.md": f"# Rain\n\n## Run\n\n    {line}\n",
    }
    part = look(machine.clone(files))[0].parts[0]
    assert line not in [one.line for one in part.commands]


def test_an_older_runtime_where_the_code_imports_what_newer_ones_lack(machine: Machine) -> None:
    [ask] = python_with("telnetlib")
    assert ask.specifier == "<3.13" and python_with("gauges") == []
    [ask] = python_with("cgi.escape")
    assert ask.specifier == "<3.8" and python_with("cgi.gauges") == []
    here = [one for one in python_interpreters(Surroundings.of_process()) if isinstance(one, Interpreter)]
    newer = [one for one in here if one.version.startswith("3.13.")]
    older = [one for one in here if one.version.startswith(("3.10.", "3.11.", "3.12."))]
    if not newer or not older:
        pytest.skip("it takes a Python that lacks the module, and one that has it")
    folders = [str(one.path.parent) for one in (*newer, *older)]
    machine.variables["PATH"] = os.pathsep.join([*folders, machine.variables["PATH"]])
    program = (
        "import http.server, os, telnetlib\nfrom unittest import makeSuite\nhttp.server.HTTPServer(('127.0.0.1', int(os.environ['PORT'])),"
        " http.server.SimpleHTTPRequestHandler).serve_forever()\n"
    )
    clone = machine.clone({"app.py": program, "requirements.txt": "", ".python-version": "3.13\n"})
    assert machine.run("onboard", clone).status == 1  # the person's own pin stands
    (clone / ".python-version").unlink()
    (clone / "Dockerfile").write_text("FROM python:3.13\n")
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert "has no telnetlib: Python" in " ".join(run.step("server")["remarks"])
    machine.run("stop", clone)
    again = machine.run("onboard", clone, "--json")
    assert again.step("runtime")["why"].startswith("asked for: <3.13 (the standard library)")
    assert again.states["runtime"] == "kept" and "newer runtimes" not in " ".join(
        again.step("server")["remarks"]
    )
    machine.run("stop", clone)


@pytest.mark.parametrize(
    ("line", "page"),
    [
        ("path('manage/', admin.site.urls)", "/manage/"),
        ("re_path(r'^admin/', admin.site.urls)", "/admin/"),
        ("url(r'^back-office/', include(admin.site.urls))", "/back-office/"),
        ("re_path(r'^(admin|boss)/', admin.site.urls)", "/admin/"),
    ],
)
def test_the_page_of_the_administration(machine: Machine, line: str, page: str) -> None:
    manage = "import django.core.management\ndjango.core.management.execute_from_command_line()\n"
    files = {"manage.py": manage, "rain/settings.py": "INSTALLED_APPS = ['django.contrib.admin']\n"}
    clone = machine.clone({**files, "rain/urls.py": f"urlpatterns = [{line}]\n"})
    found = recognise_django(walk(clone), "", frozenset({"django"}))
    assert found is not None and found.administrator is not None and found.administrator.page == page


def test_a_librarys_examples_are_named_and_can_be_chosen(machine: Machine) -> None:
    manifest = "[project]\nname = 'gaugekit'\nversion = '1.0'\n"
    files: dict[str, str | bytes] = {
        "pyproject.toml": manifest,
        "gaugekit/__init__.py": "",
        "examples/station/requirements.txt": "",
        "examples/station/app.py": SERVER,
        "examples/station/pages/app.py": SERVER,
        "examples/notes.md": "Nothing runs here.\n",
        "demo/manage.py": "import django\nif __name__ == '__main__':\n    pass\n",
        "tests/app.py": SERVER,
    }
    clone = machine.clone(files)
    found = machine.run("survey", clone, "--json").document["examples"]
    assert [one["path"] for one in found] == ["demo", "examples/station"]
    run = machine.run("survey", clone)
    assert "demo, examples/station; onboard one with: plainfall onboard --part demo" in " ".join(
        run.out.split()
    )
    other = {"pyproject.toml": manifest, "gaugekit/__init__.py": "", "demo/x; touch y/app.py": SERVER}
    hostile = machine.run("survey", machine.clone(other, "another"))
    assert "--part 'demo/x; touch y'" in " ".join(hostile.out.split())
    chosen = machine.run("onboard", clone, "--part", "examples/station", "--json")
    (server,) = chosen.document["servers"]
    assert chosen.status == 0 and server["part"] == "examples/station"


@pytest.mark.needs("node")
@pytest.mark.parametrize(("scripts", "outcome"), [({}, "done"), ({"dev": "node server.js"}, "failed")])
def test_a_part_that_serves_nothing_stops_no_page(
    machine: Machine, scripts: dict[str, str], outcome: str
) -> None:
    manifest = {"name": "words", "scripts": scripts, "dependencies": {"gauge-words": "file:../nowhere.tgz"}}
    files = {
        "app.py": SERVER,
        "requirements.txt": "",
        "Procfile": "web: python app.py\n",
        "words/package.json": json.dumps(manifest),
    }
    if scripts:
        files["words/server.js"] = (
            "require('http').createServer((a, b) => b.end('x')).listen(process.env.PORT)"
        )
    run = machine.run("onboard", machine.clone(files), "--json", "--no-input")
    assert run.document["outcome"] == outcome, run.document["failure"]
    assert run.document["servers"]
    said = " ".join(run.document["remarks"])
    assert ("words: dependencies failed" in said) == (outcome == "done"), said
