"""What is said is what happened: options that did nothing, names that are not there, lines that do not work as
printed."""

from __future__ import annotations

import re
import shlex
import socket
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from typing import Any

import pytest
from conftest import SERVER, Machine, package
from msgspec.structs import replace
from node_clones import lock, package_json
from rogue import rogue
from test_asks import fake

from plainfall.clone.commands import Command, lists_files_alone
from plainfall.clone.readme import read_steps
from plainfall.clone.vocabulary import Vocabulary
from plainfall.clone.walk import walk
from plainfall.diagnosis.reading import diagnose
from plainfall.ecosystems.python.install.wheel import ENVIRONMENT_PROGRAMS
from plainfall.ecosystems.python.lists.discover import read_list
from plainfall.ecosystems.python.lists.pins import Target
from plainfall.ecosystems.python.runtime.asks import python_with
from plainfall.evidence import Evidence
from plainfall.kept_records import ServerCopies
from plainfall.onboarding.services.guard import ServerGuard
from plainfall.server.visitor import ForeignForm, Visitor
from plainfall.standins.node_registry import node_archive
from plainfall.standins.registry import Archive
from plainfall.survey.look import look

Offer = Callable[..., object]


def remarks(run: Any, stage: str = "dependencies") -> str:
    return " ".join(" ".join(run.step(stage)["remarks"]).split())


@pytest.mark.needs("node")
def test_scripts_of_the_clone_run_with_the_project_or_where_they_are_let(
    machine: Machine, node_registry: Callable[..., object]
) -> None:
    kit = node_archive("gaugekit", "1.0.0")
    node_registry([kit])
    files = {
        "package.json": package_json([kit], scripts={"postinstall": "node run.js"}),
        "package-lock.json": lock([kit]),
        "run.js": "require('fs').writeFileSync('ran', '')",
    }
    clone = machine.clone(files)
    run = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert run.status == 0 and not (clone / "ran").exists(), run.out
    assert "not run" in remarks(run) and "--allow-install-code package.json" in remarks(run)
    run = machine.run(
        "onboard", clone, "--until", "dependencies", "--json", "--allow-install-code", "package.json"
    )
    assert run.status == 0 and (clone / "ran").exists(), run.out
    team = machine.clone(
        {**files, "plainfall.toml": '[install]\nallow-code = ["package.json"]\n'}, name="team"
    )
    machine.run("onboard", team, "--until", "dependencies")
    assert not (team / "ran").exists()  # a clone does not allow its own code to itself


@pytest.mark.parametrize(
    "words",
    [("--group", "x"), ("--extra", "x"), ("--instead", "a==1"), ("--as-of", "2024-01-01"), ("--with-pip",)],
)
def test_an_option_that_no_part_honours_is_refused_by_name(
    machine: Machine, node_registry: Callable[..., object], words: Sequence[str]
) -> None:
    node_registry([])
    clone = machine.clone(
        {"package.json": '{"name": "gauges", "scripts": {"start": "node x.js"}}', "x.js": ""}
    )
    run = machine.run("onboard", clone, "--until", "runtime", *words)
    assert run.status == 2 and words[0] in run.err and "it is for Python" in run.err


def test_an_option_that_changed_nothing_says_so(machine: Machine, offer: Offer) -> None:
    offer([Archive.of(package("gaugekit"))])
    clone = machine.clone({"requirements.txt": "gaugekit\n", "app.py": ""})
    words = ("--extra", "web", "--group", "dev", "--instead", "absent==1.0")
    run = machine.run("onboard", clone, "--until", "dependencies", "--json", *words)
    assert run.status == 0, run.out
    said = remarks(run)
    assert "has no extra web" in said and "has no group dev" in said
    assert "--instead changed nothing for absent" in said and "instead of what is listed" not in said


def test_what_a_build_of_the_project_said_is_shown(machine: Machine, offer: Offer) -> None:
    offer([])
    backend = "raise SystemExit('the rain table is missing')\n"
    files = {
        "pyproject.toml": '[build-system]\nrequires = []\nbuild-backend = "make"\nbackend-path = ["."]\n'
        '[project]\nname = "gauges"\nversion = "1.0"\n',
        "make.py": backend,
        "gauges/__init__.py": "",
    }
    run = machine.run("onboard", machine.clone(files), "--until", "dependencies", "--json")
    said = remarks(run)
    assert "the project itself is not installed" in said and "the rain table is missing" in said, run.out
    log = re.search(r"all of its output is in (\S+)", said)
    assert log is not None and "rain table" in Path(log.group(1)).read_text()


def test_the_python_that_a_wheel_itself_wants_counts(machine: Machine, offer: Offer) -> None:
    """The index says nothing of it, as most companies' own do."""
    newer = package("gaugekit", "2.0", requires_python=">=3.99")
    offer([replace(Archive.of(one), requires_python="") for one in (package("gaugekit", "1.0"), newer)])
    clone = machine.clone({"requirements.txt": "gaugekit\n", "app.py": ""})
    run = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert run.step("dependencies")["detail"]["laid"] == ["gaugekit 1.0"], run.out
    pinned = machine.clone(
        {"requirements.txt": f"gaugekit==2.0 --hash=sha256:{newer.sha256}\n", "app.py": ""}, name="pin"
    )
    run = machine.run("onboard", pinned, "--until", "dependencies")
    assert run.status == 1 and "is for Python >=3.99" in run.err
    none = machine.clone({"requirements.txt": "gaugekit>=2\n", "app.py": ""}, name="none")
    run = machine.run("onboard", none, "--until", "dependencies")
    assert run.status == 1 and "runs on Python" in run.err and ">=3.99" in run.err


@pytest.mark.parametrize(
    ("name", "is_its"),
    [("python-coveralls", False), ("activate-gauges", False), ("pythonista", False), ("python3.12", True),
     ("pythonw.exe", True), ("activate.fish", True), ("Activate.ps1", True), ("deactivate", True)],
)  # fmt: skip
def test_which_programs_are_an_environments_own(name: str, is_its: bool) -> None:
    assert (ENVIRONMENT_PROGRAMS.fullmatch(name) is not None) == is_its


def test_a_program_with_a_name_like_an_interpreters_is_laid_and_taken_out(
    machine: Machine, offer: Offer
) -> None:
    offer([Archive.of(package("coverkit", scripts={"python-cover": "coverkit:main"}))])
    clone = machine.clone({"requirements.txt": "coverkit\n", "app.py": ""})
    assert machine.run("onboard", clone, "--until", "dependencies").status == 0
    assert (clone / ".venv/bin/python-cover").is_file()
    (clone / "requirements.txt").write_text("")
    assert machine.run("onboard", clone, "--until", "dependencies").status == 0
    assert not (clone / ".venv/bin/python-cover").exists() and (clone / ".venv/bin/python").exists()


def test_names_of_the_standard_library_that_are_too_new_and_too_old() -> None:
    assert [ask.specifier for ask in python_with("typing.ParamSpec")] == [">=3.10"]
    assert [ask.specifier for ask in python_with("collections.Set")] == ["<3.10"]
    assert [ask.specifier for ask in python_with("distutils")] == ["<3.12"]
    assert python_with("typing.Any") == python_with("gauges") == []
    line = "ImportError: cannot import name 'ParamSpec' from 'typing' (/usr/lib/python3.8/typing.py)"
    known = diagnose(line)
    assert known.rule == "name-of-another-runtime" and "no longer" not in known.cause
    own = diagnose("ImportError: cannot import name 'rain' from 'gauges.models' (/home/me/gauges/models.py)")
    assert own.rule == "own-name-missing" and "installed package" not in own.cause


def test_a_line_of_a_process_file_goes_on(machine: Machine) -> None:
    files = {"requirements.txt": "", "app.py": SERVER, "Procfile": "web: python \\\n  app.py --wide\n"}
    survey, _ = look(machine.clone(files), None)
    assert "python app.py --wide" in [one.line for part in survey.parts for one in part.commands]


def test_drawings_are_no_steps() -> None:
    text = "# Gauges\n\n## Setup\n\n```\ngauges\n├── manage.py\n│   └── sample_data.csv\n└── seed.py\n```\n"
    text += "\n```\n|-- load_data.py\n`-- app.py\n```\n\n```\npython seed.py\n```\n"
    steps = read_steps(text, "README.md", Vocabulary())
    assert [one.command for one in steps] == ["python seed.py"]


def test_a_listing_of_files_is_no_application(machine: Machine) -> None:
    readme = "# Gauges\n\n## Run\n\n```sh\npython3 -m http.server 8000\n```\n"
    clone = machine.clone(
        {"README.md": readme, "requirements.txt": "", ".env": "TOKEN=x", "gauges.py": "x = 1\n"}
    )
    survey, _ = look(clone, None)
    assert not [one for part in survey.parts for one in part.commands if "http.server" in one.line]
    page = machine.clone(
        {"README.md": readme, "requirements.txt": "", "index.html": "<title>x</title>"}, name="page"
    )
    survey, tree = look(page, None)
    lines = [one.line for part in survey.parts for one in part.commands if "http.server" in one.line]
    assert lines and all("--bind 127.0.0.1" in line for line in lines)
    for line, alone in (("npx serve site", True), ("python -m http.server --directory .", False)):
        assert lists_files_alone(Command("server", line, "", 1, Evidence("README.md")), tree) == alone


def test_localhost_needs_no_resolver(monkeypatch: pytest.MonkeyPatch) -> None:
    real = socket.getaddrinfo

    def without_names(host: Any, *rest: Any, **more: Any) -> Any:
        if host not in ("127.0.0.1", "::1", None):
            raise socket.gaierror(-2, "Name or service not known")
        return real(host, *rest, **more)

    monkeypatch.setattr(socket, "getaddrinfo", without_names)

    def nothing(handler: BaseHTTPRequestHandler) -> None:
        handler.send_response(204)
        handler.end_headers()

    with rogue(nothing) as server:
        port = server.server_address[1]
        assert Visitor(5.0).get(f"http://localhost:{port}/").status == 204
        assert Visitor(5.0).get(f"http://gauges.localhost:{port}/").status == 204


def stop_line(text: str) -> list[str]:
    [line] = re.findall(r"end it: plainfall (stop.*?)   reasons", text)
    return shlex.split(line)


@pytest.mark.parametrize("name", ["gauges", "rain gauges"])
def test_the_line_that_ends_a_server_works_as_it_is_printed(machine: Machine, name: str) -> None:
    files = {
        "pyproject.toml": '[project]\nname = "kit"\nversion = "1"\n',
        "kit/__init__.py": "",
        "examples/mvc/app.py": SERVER,
    }
    clone = machine.clone(files, name=name)
    example = f"{name}/examples/mvc"
    for words in ((example,), (name, "--part", "examples/mvc"), (example,)):
        run = machine.run("onboard", *words)
        assert run.status == 0, run.err
        ended = machine.run(*stop_line(run.err))
        assert ended.status == 0 and "ended" in ended.out, ended.out + ended.err
    # Onboarded by itself before, and now as a part of the clone above: the folder's server is meant all the same.
    machine.run("onboard", name, "--part", "examples/mvc")
    ended = machine.run("stop", clone / "examples/mvc")
    assert "ended" in ended.out and "port" in ended.out
    assert "no dev server" in machine.run("stop", clone).out


def test_a_folder_of_a_server_becomes_one_of_the_clone(machine: Machine) -> None:
    program = "import os\nfrom pathlib import Path\nPath(os.environ['UPLOAD_DIR'], 'x').write_text('')\n"
    program += "Path(os.environ['LOG_FILE']).write_text('')\n" + SERVER
    files = {
        "requirements.txt": "",
        "app.py": program,
        ".env.example": "UPLOAD_DIR=/var/lib/gauges/uploads\nLOG_FILE=/srv/gauges/gauges.log\nCHROME_BIN=/opt/chrome/chrome\n",
    }
    clone = machine.clone(files)
    run = machine.run("onboard", clone)
    assert run.status == 0, run.err
    text = (clone / ".env").read_text()
    assert "UPLOAD_DIR=.plainfall/folder/uploads" in text and "CHROME_BIN=/opt/chrome/chrome" in text
    assert (clone / ".plainfall/folder/uploads/x").is_file() and (
        clone / ".plainfall/folder/gauges.log"
    ).is_file()


def test_an_extra_that_is_one_text_and_a_list_in_a_folder(machine: Machine) -> None:
    files = {
        "setup.py": "from setuptools import setup\nsetup(name='x', extras_require={'web': 'gaugekit>=1', 'all': ['a', 'b']})\n"
    }
    tree = walk(machine.clone(files))
    listed = read_list(tree, "setup.py", "setup.py", Target({}, frozenset({"web", "all"})))
    assert [line.name for line in listed.wishes if line.name] == ["a", "b", "gaugekit"]
    clone = machine.clone(
        {"requirements.txt": "# see requirements/\n", "requirements/base.txt": "gaugekit\n", "app.py": ""},
        name="b",
    )
    survey, _ = look(clone, None)
    assert (
        survey.parts[0].dependencies is not None
        and survey.parts[0].dependencies.path == "requirements/base.txt"
    )


def test_a_port_that_stands_in_the_source_is_named(machine: Machine) -> None:
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        program = SERVER.replace('int(os.environ["PORT"])', str(port)).replace(
            "import os\n", "import os\nos.environ.get('PORT')\n"
        )
        run = machine.run(
            "onboard", machine.clone({"requirements.txt": "", "app.py": program}), "--json", timeout=90
        )
    failure = run.document["failure"]
    assert failure is not None and "app.py:" in failure["cause"] and f"port {port}" in failure["cause"], (
        failure
    )
    assert "--port" not in failure["remedy"] and "change the number" in failure["remedy"]


def test_a_copy_that_could_not_be_put_back_is_said_and_tried_again(monkeypatch: pytest.MonkeyPatch) -> None:
    kept = [ServerCopies(step="seeds", mark="m", rows=(("mysql", "gauges", "gauges_before"),))]

    class State:
        def read(self, part: str, kind: type[ServerCopies]) -> ServerCopies:
            return kept[0] if kept else ServerCopies()

        def keep(self, part: str, record: ServerCopies) -> None:
            kept[:] = [record]

        def forget(self, part: str, kind: type[ServerCopies]) -> None:
            kept.clear()

    class Part:
        key = ""

    class Work:
        state, part = State(), Part()

    work: Any = Work()
    guard = ServerGuard(work)
    monkeypatch.setattr(guard, "_do", lambda name, what, *words: "the disk is full")
    assert "could not be put back as it was: the disk is full" in guard.put_back()
    assert kept[0].rows == (("mysql", "gauges", "gauges_before"),)
    monkeypatch.setattr(guard, "_do", lambda name, what, *words: "")
    assert "was put back as it was before" in guard.put_back() and not kept


@contextmanager
def served(handler: type[BaseHTTPRequestHandler]) -> Iterator[HTTPServer]:
    with HTTPServer(("127.0.0.1", 0), handler) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        yield server
        server.shutdown()


def test_forms_go_to_the_origin_of_their_page_alone() -> None:
    sent: list[str] = []

    class Listening(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            sent.append(f"{self.command} {self.path}")
            self.send_response(307 if self.path == "/moved" else 200)
            if self.path == "/moved":
                self.send_header("Location", f"http://127.0.0.1:{other.server_address[1]}/taken")
            self.send_header("Content-Length", "0")
            self.end_headers()

    with served(Listening) as page, served(Listening) as other:
        here = f"http://127.0.0.1:{page.server_address[1]}"
        for action in (
            f"http://127.0.0.1:{other.server_address[1]}/",
            "http://registry.example/",
            "https://127.0.0.1/",
        ):
            with pytest.raises(ForeignForm, match="another server"):
                Visitor(2.0).submit("post", action, [("password", "x")], f"{here}/login")
        assert sent == []
        assert (
            Visitor(2.0).submit("post", f"{here}/login", [("password", "x")], f"{here}/login").status == 200
        )
        assert (
            Visitor(2.0).submit("post", f"{here}/moved", [("password", "x")], f"{here}/login").status == 307
        )
        assert sent == ["POST /login", "POST /moved"]


def test_a_package_that_is_installed_is_not_said_to_be_missing(
    machine: Machine, offer: Callable[..., Any]
) -> None:
    offer([Archive.of(package())])
    clone = machine.clone(
        {"requirements.txt": "gaugekit\n", "app.py": "import os\nos.environ['PORT']\nraise RuntimeError('The gaugekit package must be installed')\n",
         "Procfile": "web: python app.py\n"}
    )  # fmt: skip
    run = machine.run("onboard", clone, timeout=90)
    assert "and gaugekit 1.0 is installed: it cannot be used for another cause" in " ".join(run.err.split())
    assert "import gaugekit" in run.err


def test_a_version_that_is_not_the_one_that_ci_asks_for_is_not_said_to_fit(machine: Machine) -> None:
    for version in ("3.31.0", "3.33.0"):
        fake(machine, version)
    machine.variables["PATH"] = "/usr/bin:/bin"
    steps = "on: push\njobs:\n  t:\n    steps:\n      - uses: actions/setup-python@v5\n        with:\n          python-version: '3.32'\n"
    clone = machine.clone({"requirements.txt": "", "app.py": "", ".github/workflows/t.yml": steps})
    detail = machine.run("onboard", clone, "--until", "runtime", "--json").step("runtime")["detail"]
    assert detail["chosen"]["version"] == "3.33.0"
    said = {one["version"]: one["reason"] for one in detail["rejected"]}
    assert said["3.31.0"] == "it is not the 3.32 of .github/workflows/t.yml:7 either, and 3.33.0 is newer"


@pytest.mark.parametrize(("maker", "module"), [("Flask", "flask"), ("FastAPI", "fastapi")])
def test_a_second_application_of_a_clone_is_mentioned(machine: Machine, maker: str, module: str) -> None:
    source = f"from {module} import {maker}\napp = {maker}(__name__)\n"
    clone = machine.clone(
        {
            "requirements.txt": f"{module}\n",
            "board/app.py": source,
            "board/pieces/main.py": source,  # a piece of the one that is started
            "collector/app.py": source,
        }
    )
    run = machine.run("survey", clone)
    assert "another application is in collector" in " ".join(run.out.split()), run.out
    assert "is in board/pieces" not in run.out
    assert machine.run("survey", clone / "collector").out.startswith("collector  Python")


def test_the_port_of_another_server_in_a_start_command_is_not_its_own(machine: Machine) -> None:
    """``--store redis://localhost:6379`` says where the store is, and not where the program listens."""
    readme = "# Rain\n\n## Running\n\n```\npython app.py --store redis://localhost:6379/0\n```\n"
    clone = machine.clone({"requirements.txt": "", "app.py": SERVER, "README.md": readme})
    run = machine.run("onboard", clone, "--json", timeout=120)
    assert run.document["outcome"] == "done", run.document["failure"]
    assert run.document["servers"][0]["port"] != 6379
    assert not any("6379" in one for one in run.step("server")["remarks"]), run.step("server")["remarks"]


@pytest.mark.parametrize(
    ("line", "stage"),
    [
        ("gauges run --help", "question"),
        ("pre-commit run --all-files", "check"),
        ("brew services start postgresql", "check"),
        ("tox run -e start", "check"),
        ("uv run ruff check .", "check"),
        ("gauges --data tests/fixtures/rain/ --port 8000", "server"),
        ("gauges loaddata tests/fixtures/rain.json", "seeds"),
        ("gauges serve --port 8000", "server"),
        ("gauges open --probe", "server"),
        ("gauges open drops.csv", ""),
    ],
)
def test_lines_that_serve_nothing_are_no_servers(line: str, stage: str) -> None:
    from plainfall.clone.readme import stage_of

    words = Vocabulary(runners=("uv",))
    assert stage_of(line, "Running", words, frozenset({"gauges"})) == stage


@pytest.mark.parametrize("line", ["python ingest_saved.py", "uvicorn mine:app --port 8000"])
def test_a_documented_line_about_the_readers_own_files_is_no_failure(machine: Machine, line: str) -> None:
    """A library whose README shows how its user starts a program of theirs."""
    clone = machine.clone(
        {
            "requirements.txt": "",
            "rain/__init__.py": "",
            "uvicorn.py": "raise SystemExit('Error loading ASGI app. Could not import module \"mine\".')\n",
            "README.md": f"# Rain\n\n## Usage\n\n```\n{line.replace('uvicorn', 'python uvicorn.py')}\n```\n",
        }
    )
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert run.states["server"] == "left out"
