"""Frameworks recognised by their sources: the command for each stage, from files alone."""

from __future__ import annotations

from pathlib import Path

import pytest
from conftest import Machine

from plainfall.clone.frameworks import FrameworkFound
from plainfall.clone.walk import walk
from plainfall.ecosystems.frameworks import find_frameworks
from plainfall.ecosystems.python.frameworks.django import recognise as recognise_django

MANAGE = "import os\nos.environ.setdefault('DJANGO_SETTINGS_MODULE', 'rain.settings')\nimport django\n"


def found(folder: Path, files: dict[str, str], names: str = "") -> dict[str, FrameworkFound]:
    for path, text in files.items():
        (folder / path).parent.mkdir(parents=True, exist_ok=True)
        (folder / path).write_text(text)
    return {one.name: one for one in find_frameworks(walk(folder), "", "python", frozenset(names.split()))}


def commands(one: FrameworkFound) -> dict[str, str]:
    return {command.stage: command.line for command in reversed(one.commands)}


@pytest.mark.parametrize(
    ("files", "line"),
    [
        ({"app.py": "import streamlit as st\nst.title('Rain')\n"}, "streamlit run app.py --server.port"),
        (
            {
                "ui/main.py": "import streamlit as st\nst.navigation([])\n",
                "ui/pages/1_Gauges.py": "import streamlit as st\nst.title('x')\n",
                "ui/bits.py": "import streamlit as st\nst.write('x')\n",
            },
            "streamlit run ui/main.py",
        ),
        (
            {"bot.py": "import chainlit as cl\n@cl.on_message\nasync def f(m): ...\n"},
            "chainlit run bot.py --headless",
        ),
        ({"rain.py": "import marimo\napp = marimo.App()\n"}, "marimo run rain.py --headless"),
        ({"kit.py": "import streamlit\ndef f(): ...\n"}, ""),
        (
            {"a;touch x.py": "import streamlit as st\nst.title('x')\n"},
            "streamlit run 'a;touch x.py' --server",
        ),
        ({"-x.py": "import streamlit as st\nst.title('x')\n"}, "streamlit run ./-x.py --server"),
        (
            {"a.py": "import panel as pn\n", "b.py": "import panel as pn\npn.Row().servable()\n"},
            "panel serve b.py",
        ),
    ],
)
def test_scripts_that_another_program_turns_into_a_page(
    tmp_path: Path, files: dict[str, str], line: str
) -> None:
    results = found(tmp_path, files)
    lines = [
        command.line for one in results.values() for command in one.commands if command.stage == "server"
    ]
    assert lines[:1] == ([] if not line else [next(one for one in lines if one.startswith(line))]), lines


def test_django_below_the_parts_folder_with_its_own_seed_command(tmp_path: Path) -> None:
    one = found(
        tmp_path,
        {
            "src/manage.py": MANAGE,
            "src/rain/settings.py": "INSTALLED_APPS = ['django.contrib.admin']\nSTATIC_ROOT='x'\nX='whitenoise.storage.CompressedManifestStaticFilesStorage'\n",
            "src/rain/urls.py": "urlpatterns = [path('staff/', admin.site.urls)]\n",
            "src/gauges/management/commands/seed_gauges.py": "",
            "src/gauges/fixtures/a.json": "[]",
        },
    )["Django"]
    assert commands(one) == {
        "migrations": "python src/manage.py migrate --noinput",
        "seeds": "python src/manage.py seed_gauges",
        "tasks": "python src/manage.py collectstatic --noinput",
        "server": "python src/manage.py runserver 127.0.0.1:${PORT:-8000}",
    }
    assert (
        one.administrator is not None
        and one.administrator.page == "/staff/"
        and one.pages == ("/", "/staff/")
    )


def test_django_with_a_user_model_of_its_own_gets_no_administrator(tmp_path: Path) -> None:
    settings = "INSTALLED_APPS = ['django.contrib.admin']\nAUTH_USER_MODEL = 'gauges.Volunteer'\n"
    one = found(tmp_path, {"manage.py": MANAGE, "rain/settings.py": settings})["Django"]
    assert one.administrator is None


@pytest.mark.parametrize(
    ("files", "application"),
    [
        ({"app.py": "from flask import Flask\napp = Flask(__name__)\n"}, None),
        ({"rain.py": "import flask\nserver = flask.Flask(__name__)\n"}, "rain:server"),
        (
            {"rain/__init__.py": "def create_app(test=None):\n    app = Flask(__name__)\n"},
            "rain",
        ),
        (
            {"rain/web.py": "def make_app():\n\n    x = 1\n    return Flask('x')\n", "rain/__init__.py": ""},
            "rain.web",
        ),
        (
            {
                "wsgi.py": "from rain import create_app\napp = create_app()\n",
                "rain/__init__.py": "from flask import Flask\ndef create_app():\n    return Flask('x')\n",
            },
            None,
        ),
        (
            {
                "app.py": "from flask import Flask\napp = Flask('x')\n",
                "main.py": "from app import app\nimport pages\nif 1:\n    app.run()\n",
            },
            "main",
        ),
        ({"x/y.py": "application = Flask('x')\n", ".flaskenv": "FLASK_APP=x.y\n"}, "x.y"),
    ],
)
def test_flask_as_its_own_command_finds_it(
    tmp_path: Path, files: dict[str, str], application: str | None
) -> None:
    one = found(tmp_path, files)["Flask"]
    assert commands(one)["server"] == "flask run --port ${PORT:-5000} --reload"
    assert one.variables.get("FLASK_APP") == application


@pytest.mark.parametrize("given", ["bells.join(app)", "print('ready')"])
def test_flask_application_that_is_made_ready_where_its_file_is_run(tmp_path: Path, given: str) -> None:
    text = f"app = Flask('x')\n\nif __name__ == '__main__':\n    {given}\n    app.run(port=4200)\n"
    one = found(tmp_path, {"rain.py": f"from flask import Flask\n{text}"})["Flask"]
    ranks = sorted((one.rank, one.line) for one in one.commands)
    last = "python rain.py" if "(app)" in given else "flask run --port ${PORT:-5000} --reload"
    assert ranks[-1][1] == last


def test_flask_commands_that_the_application_registers(tmp_path: Path) -> None:
    text = "app = Flask('x')\n@app.cli.command('create-tables')\ndef a(): ...\n@click.command('load-demo-data')\ndef b(): ...\n@app.cli.command('lint')\ndef c(): ...\n"
    assert commands(found(tmp_path, {"app.py": text})["Flask"]) == {
        "migrations": "flask create-tables",
        "seeds": "flask load-demo-data",
        "server": "flask run --port ${PORT:-5000} --reload",
    }


@pytest.mark.parametrize(
    ("files", "names", "server"),
    [
        (
            {"main.py": "app = FastAPI()\n"},
            "uvicorn",
            "uvicorn main:app --host 127.0.0.1 --port ${PORT:-8000} --reload",
        ),
        (
            {"src/rain/api.py": "api: FastAPI = FastAPI(title='x')\n", "src/rain/__init__.py": ""},
            "",
            "uvicorn rain.api:api --app-dir src --host 127.0.0.1 --port ${PORT:-8000} --reload",
        ),
        (
            {"app/main.py": "def create_app():\n    return FastAPI()\n"},
            "",
            "uvicorn app.main:create_app --factory --host 127.0.0.1 --port ${PORT:-8000} --reload",
        ),
        (
            {"rain.py": "app = Starlette(routes=[])\n"},
            "hypercorn",
            "hypercorn rain:app --bind 127.0.0.1:${PORT:-8000} --reload",
        ),
    ],
)
def test_asgi_with_the_server_that_the_list_holds(
    tmp_path: Path, files: dict[str, str], names: str, server: str
) -> None:
    assert commands(found(tmp_path, files, names)["ASGI"])["server"] == server


WSGI = "def application(environ, start_response):\n    start_response('200 OK', [('Content-Type', 'text/html')])\n    return [b'<title>Rain</title>']\n"


@pytest.mark.parametrize(
    ("names", "start"),
    [
        ("gunicorn", "gunicorn wsgi:application --bind"),
        ("waitress", "waitress-serve --host"),
        ("", "python -c "),
    ],
)
def test_plain_wsgi(tmp_path: Path, names: str, start: str) -> None:
    assert commands(found(tmp_path, {"wsgi.py": WSGI}, names)["WSGI"])["server"].startswith(start)


def test_alembic_beside_an_application(tmp_path: Path) -> None:
    both = found(
        tmp_path, {"alembic.ini": "[alembic]\nscript_location = steps\n", "main.py": "app = FastAPI()\n"}
    )
    assert commands(both["Alembic"]) == {"migrations": "alembic upgrade head"} and "ASGI" in both
    assert both["Alembic"].evidence.line == 2


def test_scripts_only_where_they_open_a_port(tmp_path: Path) -> None:
    assert found(tmp_path / "a", {"main.py": "if __name__ == '__main__':\n    print('rain')\n"}) == {}
    one = found(tmp_path / "b", {"main.py": "from http.server import HTTPServer\n"})["script"]
    assert commands(one) == {"server": "python main.py"}
    package = {
        "rain/__init__.py": "",
        "rain/__main__.py": "from rain.web import main\n",
        "rain/web.py": "x.serve_forever()\n",
    }
    assert commands(found(tmp_path / "c", package)["script"]) == {"server": "python -m rain"}


def test_tests_and_examples_hold_no_application(tmp_path: Path) -> None:
    assert (
        found(
            tmp_path,
            {
                "tests/app.py": "app = Flask('x')\n",
                "docs/x.py": "app = FastAPI()\n",
                "test_a.py": "app = Flask('x')\n",
            },
        )
        == {}
    )


@pytest.mark.parametrize(
    "files",
    [
        {"wsgi.py": WSGI},
        {
            "rain/__init__.py": "",
            "rain/__main__.py": "import os\nfrom wsgiref.simple_server import make_server\nfrom rain.page import application\nmake_server('127.0.0.1', int(os.environ['PORT']), application).serve_forever()\n",
            "rain/page.py": WSGI,
        },
    ],
)
def test_clones_without_a_framework_answer(machine: Machine, files: dict[str, str]) -> None:
    clone = machine.clone({**files, "setup.cfg": "[metadata]\nname = rain\n"})
    run = machine.run("onboard", clone, "--json", "--port", "8680")
    assert run.status == 0, run.err
    assert run.document["servers"][0]["probe"]["title"] == "Rain"


def test_a_script_that_serves_nothing_is_left_out_with_the_reason(machine: Machine) -> None:
    run = machine.run("onboard", machine.clone({"main.py": "print('rain')\n"}), "--json")
    assert run.status == 0 and run.states["server"] == "left out"
    assert "no start command was found" in run.step("server")["why"]


def test_static_files_are_not_collected_for_a_word_in_a_comment(tmp_path: Path) -> None:
    settings = "# STATIC_ROOT = 'x'\n# ManifestStaticFilesStorage is not used\nMIDDLEWARE = ['whitenoise']\n"
    one = found(tmp_path, {"manage.py": MANAGE, "rain/settings.py": settings})["Django"]
    assert "tasks" not in commands(one)


def test_django_without_manage_py_is_run_by_its_settings(tmp_path: Path) -> None:
    wsgi = (
        "import os\nfrom django.core.wsgi import get_wsgi_application\n"
        "os.environ.setdefault('DJANGO_SETTINGS_MODULE', 'gauges.settings.local')\n"
        "application = get_wsgi_application()\n"
    )
    (tmp_path / "web/gauges/settings").mkdir(parents=True)
    (tmp_path / "web/gauges/wsgi.py").write_text(wsgi)
    assert recognise_django(walk(tmp_path), "", frozenset({"django"})) is None  # no settings are here
    (tmp_path / "web/gauges/settings/base.py").write_text("DEBUG = True\n")
    found = recognise_django(walk(tmp_path), "", frozenset({"django"}))
    assert found is not None
    assert found.variables == {"DJANGO_SETTINGS_MODULE": "gauges.settings.base", "PYTHONPATH": "web"}
    assert [one.line for one in found.commands] == [
        "python -m django migrate --noinput", "python -m django runserver 127.0.0.1:${PORT:-8000}",
    ]  # fmt: skip
    assert str(found.evidence) == "web/gauges/wsgi.py:3"


@pytest.mark.parametrize(
    ("line", "files", "is_left_out"),
    [
        ("alembic upgrade head", {}, True),
        ("alembic upgrade head", {"alembic.ini": "[alembic]\nscript_location = db\n"}, False),
        (
            "alembic -c conf/alembic.ini upgrade head",
            {"conf/alembic.ini": "[alembic]\nscript_location = db\n"},
            False,
        ),
        (
            "alembic upgrade head",
            {"pyproject.toml": "[project]\nname = 'rain'\n[tool.alembic]\nx = 1\n"},
            False,
        ),
        ("flask db upgrade", {}, True),
        ("flask db upgrade", {"migrations/env.py": ""}, False),
        ("flask db upgrade", {"rain.py": "Migrate(app, db, directory='schema')\n"}, False),
    ],
)
def test_documented_migrations_without_anything_to_work_through_are_left_out(
    machine: Machine, line: str, files: dict[str, str], is_left_out: bool
) -> None:
    """A README that was copied from a template names them, and the clone has none."""
    readme = f"# Rain\n\n## Set-up\n\n    {line}\n    python app.py\n"
    clone = machine.clone({"requirements.txt": "", "app.py": "", "README.md": readme, **files})
    shown = " ".join(machine.run("survey", clone).out.split())
    assert line in shown and ("left out, since the clone has no migrations for it" in shown) == is_left_out, (
        shown
    )
