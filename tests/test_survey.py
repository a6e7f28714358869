"""The survey: what it finds, the evidence, and that it leaves the clone alone."""

from __future__ import annotations

import json
import os
from pathlib import Path

import pytest
from conftest import Machine
from hypothesis import given
from hypothesis import strategies as st

from plainfall.clone.commands import without_placeholders
from plainfall.clone.readme import read_steps, stage_of
from plainfall.clone.walk import walk
from plainfall.ecosystems import vocabulary
from plainfall.ecosystems.python.recognise.console_scripts import plugin_commands
from plainfall.errors import BadInput
from plainfall.survey.look import look

README = """\
# Gauges

```sh
make poster
```

## Getting started

```console
$ git clone https://gauges.example/app
$ python -m venv .venv && . .venv/bin/activate
(.venv) $ pip install -r requirements.txt
$ cp .env.example .env
Copied.
```

### Database

```
tallysteps apply \\
    --verbose
python load.py   # fills it
```

## Running

    python app.py

Open http://localhost:9000/today and look.

```json
{"not": "a command"}
```
"""


def snapshot(folder: Path) -> dict[str, tuple[int, int]]:
    return {str(p): (p.stat().st_mtime_ns, p.stat().st_size) for p in sorted(folder.rglob("*"))}


def test_a_sentence_with_an_empty_command_is_read(tmp_path: Path) -> None:
    text = "# Rain\n\nYou can run ` ` or start `gauges serve`.\n"
    steps = read_steps(text, "README.md", vocabulary(), frozenset({"gauges"}))
    assert [one.command for one in steps] == ["gauges serve"]


def test_readme_steps_under_their_headings_with_stages_and_lines() -> None:
    steps = [
        (step.stage, step.command, step.evidence.line)
        for step in read_steps(README, "README.md", vocabulary())
    ]
    assert steps == [
        ("fetch", "git clone https://gauges.example/app", 10),
        ("environment", "python -m venv .venv && . .venv/bin/activate", 11),
        ("dependencies", "pip install -r requirements.txt", 12),
        ("settings", "cp .env.example .env", 13),
        ("migrations", "tallysteps apply --verbose", 20),
        ("seeds", "python load.py", 22),
        ("server", "python app.py", 27),
    ]


def test_commands_of_unknown_tools_by_their_words() -> None:
    assert stage_of("raintool migrate", "", vocabulary()) == "migrations"
    assert stage_of("raintool db:seed", "", vocabulary()) == "seeds"
    assert stage_of("raintool serve --fast", "", vocabulary()) == "server"
    assert stage_of("raintool polish", "", vocabulary()) == ""


def test_a_survey_changes_nothing_on_disk(machine: Machine) -> None:
    clone = machine.clone({"README.md": README, "app.py": "x = 1\n", "requirements.txt": "gaugekit==1\n"})
    before = snapshot(clone)
    assert machine.run("survey", clone).status == 0
    assert machine.run("onboard", clone, "--preview").status == 0
    assert snapshot(clone) == before


def test_parts_in_subfolders_and_what_is_no_part(machine: Machine) -> None:
    clone = machine.clone(
        {
            "api/requirements.txt": "gaugekit==1\n",
            "reports/pyproject.toml": "[project]\nname='reports'\n",
            "docs/requirements.txt": "docskit==1\n",
            "reader/Cargo.toml": "",
            "tools.py": "",
        }
    )
    document = machine.run("survey", clone, "--json").document
    assert [part["path"] for part in document["parts"]] == ["api", "reports"]
    remarks = " ".join(remark["text"] for remark in document["remarks"])
    assert "Rust is compiled" in remarks


def test_a_compose_file_that_cannot_be_read_is_named_and_stops_nothing(machine: Machine) -> None:
    broken = "services:\n  database:\n    image: postgres:16\n   ports: [\n"
    clone = machine.clone({"app.py": "x = 1\n", "requirements.txt": "", "deploy/compose.yaml": broken})
    told = machine.run("survey", clone)
    assert told.status == 0
    assert "(deploy/compose.yaml:4)" in told.out
    (remark,) = machine.run("survey", clone, "--json").document["remarks"]
    assert (
        "defines are not known, for it is not YAML: " in remark["text"] and "Mend that line" in remark["text"]
    )
    (clone / "deploy" / "compose.yaml").write_bytes(b"services:\n  caf\xe9: {image: redis}\n")
    assert "compose.yaml" in machine.run("survey", clone, "--json").out


def test_ignored_files_environments_and_vendored_trees_are_left_out(tmp_path: Path) -> None:
    for path in (
        "app.py",
        ".gitignore",
        "keep/build/a.py",
        "build/b.py",
        "mine/pyvenv.cfg",
        "mine/lib/c.py",
        "node_modules/d.js",
        "vendor/autoload.php",
        "vendor/e.php",
        "sub/.gitignore",
        "sub/f.py",
        "sub/g.py",
        "notes.log",
    ):
        (tmp_path / path).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / path).write_text("")
    (tmp_path / ".gitignore").write_text("/build/\n*.log\nf.py\n")
    (tmp_path / "sub/.gitignore").write_text("!f.py\ng.py\n")
    assert set(walk(tmp_path).files) == {
        "app.py",
        ".gitignore",
        "keep/build/a.py",
        "sub/.gitignore",
        "sub/f.py",
    }


def test_contradictions_name_both_places(machine: Machine) -> None:
    clone = machine.clone(
        {
            "README.md": README,
            "app.py": "if __name__ == '__main__':\n    pass\n",
            ".env.example": "PORT=8000\n",
            ".python-version": "3.10\n",
            "pyproject.toml": "[project]\nname='gauges'\nrequires-python='>=3.11'\n",
        }
    )
    found = machine.run("survey", clone, "--json").document["contradictions"]
    places = [[f"{p['path']}:{p['line']}" for p in one["evidence"]] for one in found]
    assert places == [
        [".python-version:1", "pyproject.toml:3"],
        [".env.example:1", "README.md:29"],
        ["README.md:22"],
    ]
    assert "load.py, which is not in the clone" in found[2]["what"]


@pytest.mark.parametrize(
    ("pin", "range_", "disagree"),
    [
        ("20", "^20.0.0", False),
        ("20", "20.x", False),
        ("v22.3.0", ">=18 <23", False),
        ("22.3.x", "~22.3.0 || >=24", False),
        ("22.3.0", "~22.4.0", True),
        ("20", ">=21", True),
    ],
)
def test_node_versions_are_compared_in_their_own_grammar(
    machine: Machine, pin: str, range_: str, disagree: bool
) -> None:
    manifest = json.dumps(
        {"name": "dials", "engines": {"node": range_}, "scripts": {"start": "node dials.js"}}
    )
    clone = machine.clone({".nvmrc": f"{pin}\n", "package.json": manifest, "dials.js": ""})
    run = machine.run("survey", clone, "--json")
    assert run.status == 0, run.err
    said = [one["what"] for one in run.document["contradictions"]]
    assert said == [f"one place asks for Node {pin}, another for {range_}"] * disagree


def test_sources_and_prose_of_another_coding_are_read(tmp_path: Path) -> None:
    (tmp_path / "requirements.txt").write_text("gaugelib==1.0\n")
    (tmp_path / "README").write_bytes("Café\n\n    python app.py\n".encode("latin-1"))
    (tmp_path / "app.py").write_bytes("# -*- coding: cp1251 -*-\nTOWN = 'Псков'\n".encode("cp1251"))
    (tmp_path / "odd.py").write_bytes(b"# coding: punycode\nTOWN = '\xe9'\n")
    survey, tree = look(tmp_path)
    assert survey.parts[0].language == "python"
    assert "Псков" in tree.text("app.py")
    assert tree.text("odd.py").endswith("TOWN = '\ufffd'\n")
    (tmp_path / ".env.example").write_bytes(b"TOWN=\xe9\n")
    survey, _ = look(tmp_path)
    said = [str(place) for text, place in survey.remarks if "not all UTF-8" in text]
    assert said == [".env.example:1", "README:1", "odd.py:2"]
    assert survey.parts[0].templates[0].keys == ("TOWN",)
    (tmp_path / ".env.example").write_bytes(b"TOWN=\0\n")
    with pytest.raises(BadInput, match="NUL byte"):
        look(tmp_path)


def test_commands_are_ranked_with_reasons(machine: Machine) -> None:
    clone = machine.clone(
        {
            "README.md": README,
            "Procfile": "web: raintool serve --port $PORT\nrelease: raintool migrate\n",
            "app.py": "if __name__ == '__main__':\n    pass\n",
            "seed.py": "",
            "pyproject.toml": "[project]\nname='g'\n[project.scripts]\ng-serve='gauges:main'\n",
            "gauges.py": "def main(): pass\n",
        }
    )
    [part] = machine.run("survey", clone, "--json").document["parts"]
    assert part["server"]["command"] == "raintool serve --port $PORT"
    assert [c["reason"] for c in part["server"]["candidates"]] == [
        "the process file's 'web' process",
        "the README's step under 'Running'",
        "the project's script 'g-serve'",
    ]
    assert part["migrations"]["command"] == "raintool migrate"
    assert part["seeds"]["evidence"][0]["path"] == "seed.py"


def test_a_clone_with_nothing_for_us_ends_with_status_4(machine: Machine) -> None:
    run = machine.run("onboard", machine.clone({"Cargo.toml": "", "src/main.rs": ""}))
    assert run.status == 4 and "Rust is compiled" in run.err
    assert machine.run("survey", machine.home / "nowhere").status == 4


def test_links_that_lead_out_are_not_read(machine: Machine, tmp_path: Path) -> None:
    secret = tmp_path / "secret.txt"
    secret.write_text("gaugekit==1\n")
    clone = machine.clone({"app.py": ""})
    os.symlink(secret, clone / "requirements.txt")
    run = machine.run("survey", clone)
    assert run.status == 1 and "leads out of the clone" in run.err


@pytest.mark.parametrize(
    ("files", "line", "reason"),
    [
        ({"Dockerfile": 'FROM python:3.11\nCMD ["python", "/app/main.py", "--port", "8000"]\n', "main.py": "x = 1\n"},
         "python main.py --port 8000", "what the container runs"),
        ({"Dockerfile": "FROM python:3.11\nCMD python main.py \\\n  --fast\n", "main.py": "x = 1\n"},
         "python main.py    --fast", "what the container runs"),
        ({"Dockerfile": 'FROM python:3.11\nCMD ["sh", "-c", "python main.py"]\n', "main.py": "x = 1\n"},
         "python main.py", "what the container runs"),
        ({"Dockerfile": "FROM alpine\nCMD nginx\n"}, None, ""),
        ({"Dockerfile": 'FROM x\nCMD ["python", "gone.py"]\n'}, None, ""),
        ({".vscode/launch.json": '{\n// mine\n"configurations": [{"name": "Gauges", "type": "debugpy", "request": "launch",'
          ' "program": "${workspaceFolder}/main.py", "args": ["serve"],}]}', "main.py": "x = 1\n"},
         "python main.py serve", "the editor's configuration 'Gauges'"),
        ({".vscode/launch.json": '{"configurations": [{"name": "W", "type": "python", "request": "launch", "module": "rain.web"}]}'},
         "python -m rain.web", "the editor's configuration 'W'"),
        ({".vscode/launch.json": '{"configurations": [{"name": "A", "type": "python", "request": "attach"}, 3]}'}, None, ""),
        ({".vscode/launch.json": "{broken"}, None, ""),
    ],
)  # fmt: skip
def test_start_commands_of_containers_and_editors(
    machine: Machine, files: dict[str, str], line: str | None, reason: str
) -> None:
    survey, _ = look(machine.clone({"requirements.txt": "", **files}))
    found = [
        one
        for one in survey.parts[0].candidates("server")
        if "container" in one.reason or "editor" in one.reason
    ]
    assert [one.line for one in found] == ([line] if line else [])
    assert not found or (found[0].reason == reason and found[0].evidence.line > 0)


@pytest.mark.parametrize(
    ("written", "run"),
    [
        ("raingauge serve path/to/readings.db", "raingauge serve"),
        ("raingauge serve --station <station> --quiet &", "raingauge serve --quiet"),
        ("raingauge up [options]", "raingauge up"),
        ("python app.py --data data/readings.db", "python app.py --data data/readings.db"),
        ("my-gauge up", "my-gauge up"),
        ("raingauge start / stop / reload", "raingauge start"),
        ("raingauge up -d /path/to/empty/data/dir -p 80", "raingauge up -d .plainfall/folder -p 80"),
        ("raingauge up --store=x $HOME/rain", "raingauge up --store=x"),
        ("raingauge up ~/packages &", "raingauge up .plainfall/folder"),
        ("raingauge up -c ~/rain.toml --all", "raingauge up --all"),
    ],
)
def test_words_of_the_readers_own_are_left_out_of_a_start_command(written: str, run: str) -> None:
    assert without_placeholders(written, ()) == run


def test_a_seed_command_with_a_placeholder_is_none(tmp_path: Path) -> None:
    (tmp_path / "app.py").write_text("print(1)\n")
    (tmp_path / "README.md").write_text(
        "# Rain\n\n## Database\n\n    env GAUGES=<backend> python seed.py populate\n"
        "    GAUGES=./path_to_gauges python seed.py populate\n    python seed.py fill\n"
    )
    (tmp_path / "seed.py").write_text("")
    survey, _ = look(tmp_path)
    assert survey.parts[0].candidates("seeds")[0].line == "python seed.py fill"


def test_a_database_of_the_readers_own_is_a_file_that_the_program_makes() -> None:
    written = "raingauge serve path/to/readings.db"
    assert (
        without_placeholders(written, (), databases=True) == "raingauge serve .plainfall/folder/readings.db"
    )


@pytest.mark.parametrize(
    ("line", "behind", "stage"),
    [
        ("rain --all -d $HOME/rain", "A server should now be listening on localhost:8080.", "server"),
        ("rain --all -d $HOME/rain", "It lists all drops.", ""),
        ("rain -w", "and open it in your browser", "server"),
        ("rain -w", "Opens an editor.", ""),
        ("rain -p 20-30 40", "Prints them.", ""),
        ("rain -p 8080", "", "server"),
        ("rain /path/to/readings.db", "", "server"),
        ("python -m rain serve", "", "server"),
        ("from rain import serve", "", None),
        ("drops --to=x:1// rain", "By default, rain runs on port 5555.", "server"),
        ("drops rain", "It counts them.", ""),
        ("drops worker", "It runs on port 5555.", ""),
    ],
)
def test_whether_a_program_of_the_projects_own_serves(line: str, behind: str, stage: str | None) -> None:
    steps = read_steps(
        f"# Rain\n\n## Usage\n\n    {line}\n\n{behind}\n",
        "README.md",
        vocabulary(),
        frozenset({"rain", "drops rain"}),
    )
    assert [step.stage for step in steps] == ([] if stage is None else [stage])


@pytest.mark.parametrize(
    "files",
    [
        {
            "setup.py": "setup(entry_points={'drops.commands': ['rain = rain:main'], 'drops.other': ['x = y:z']})\n"
        },
        {"setup.py": 'setup(entry_points="""\n[drops.commands]\nrain = rain:main\n[x]\na = b:c\n""")\n'},
        {"pyproject.toml": "[project.entry-points.'drops.commands']\nrain = 'rain:main'\n"},
    ],
)
def test_commands_that_a_project_adds_to_another_program(tmp_path: Path, files: dict[str, str]) -> None:
    for path, text in files.items():
        (tmp_path / path).write_text(text)
    assert plugin_commands(walk(tmp_path), "") == {"drops rain"}


def test_a_plain_text_that_marks_its_code_as_restructured_text_does() -> None:
    text = "RAIN\n====\n\nInstant gratification\n---------------------\n\nRun::\n\n  python demo.py\n\nSo.\n"
    steps = read_steps(text, "README.txt", vocabulary())
    assert [(step.stage, step.command) for step in steps] == [("server", "python demo.py")]


def test_a_page_of_any_name_says_how_the_projects_own_program_serves(tmp_path: Path) -> None:
    files = {
        "pyproject.toml": "[project]\nname = 'rain'\nversion = '1'\n",
        "src/rain/__init__.py": "",
        "src/rain/__main__.py": "print('rain')\n",
        "docs/words.rst": "Words\n=====\n\nServe it::\n\n    python -m rain serve\n\nOr::\n\n    python -m rain serve >> /tmp/x\n",
    }
    for path, text in files.items():
        (tmp_path / path).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / path).write_text(text)
    survey, _ = look(tmp_path)
    [command] = survey.parts[0].candidates("server")
    assert command.line == "python -m rain serve" and command.evidence.path == "docs/words.rst"


FORMS = {
    "README.rst": "Gauges\n======\n\nRunning it\n----------\n\nMake the tables first::\n\n    $ raintool migrate\n    made 3 tables\n\n"
    ".. code-block:: bash\n   :caption: the server\n\n   raintool serve  # from here on\n\nNot code.\n",
    "README.adoc": "= Gauges\n\n== Running it\n\n[source,bash]\n----\nraintool migrate\n----\n\n....\n$ raintool serve\n....\n",
    "README.org": "* Gauges\n** Running it\n#+begin_src sh\nraintool migrate\nraintool serve\n#+end_src\n",
    "README.md": "# Gauges\n\n## Running it\n\n```sh\nraintool migrate\nraintool serve\n```\n",
}


@pytest.mark.parametrize("name", FORMS)
def test_steps_stand_in_documents_of_several_forms(name: str) -> None:
    steps = read_steps(FORMS[name], name, vocabulary())
    assert [(step.stage, step.command, step.heading) for step in steps] == [
        ("migrations", "raintool migrate", "Running it"),
        ("server", "raintool serve", "Running it"),
    ]
    lines = FORMS[name].splitlines()
    assert all(step.command in lines[step.evidence.line - 1] for step in steps)


@given(
    st.text(st.characters(codec="utf-8", exclude_categories=("Cs", "Cn")), max_size=300),
    st.sampled_from(list(FORMS)),
)
def test_any_text_is_read(text: str, name: str) -> None:
    assert isinstance(read_steps(text, name, vocabulary()), list)
    assert isinstance(read_steps(FORMS[name][: len(text)] + text, name, vocabulary()), list)


@pytest.mark.parametrize(
    "files",
    [
        {"pyproject.toml": '[project]\nname = "rain-pump"\ndependencies = ["bottle"]\n[project.scripts]\nrain_pump = "pump:main"\n'},
        {"pyproject.toml": '[tool.poetry]\nname = "rain-pump"\n[tool.poetry.dependencies]\nbottle = "*"\n[tool.poetry.scripts]\nrain_pump = "pump:main"\n'},
        {"setup.py": "from setuptools import setup\nsetup(name='rain-pump', install_requires=['bottle'], entry_points={'console_scripts': ['rain_pump = pump:main']})\n"},
        {"setup.py": "from setuptools import setup\nsetup(name='x', install_requires=['bottle'], entry_points='''[console_scripts]\nrain_pump = pump:main\n''')\n"},
        {"setup.cfg": "[metadata]\nname = x\n[options]\ninstall_requires =\n  bottle\n[options.entry_points]\nconsole_scripts =\n  rain_pump = pump:main\n", "setup.py": ""},
    ],
)  # fmt: skip
def test_the_projects_own_program_is_tried_where_nothing_says_how_it_starts(
    tmp_path: Path, files: dict[str, str]
) -> None:
    for name, text in {**files, "pump.py": "def main(): ...\n"}.items():
        (tmp_path / name).write_text(text)
    part = look(tmp_path)[0].parts[0]
    assert [one.line for one in part.candidates("server")] == ["rain_pump"]
    for name, text in files.items():  # a tool that serves nothing
        (tmp_path / name).write_text(text.replace("bottle", "kit"))
    assert look(tmp_path)[0].parts[0].candidates("server") == []


def test_a_runner_that_fetches_the_package_means_the_project_and_other_tools_are_no_servers() -> None:
    text = (
        "# Gauges\n\n## Running\n\n```sh\nuvx --from rain-gauges gauges web\n"
        "otherwise mcp add gauges -- uv run --directory . gauges-io\n```\n"
    )
    steps = read_steps(text, "README.md", vocabulary(), frozenset({"gauges"}))
    assert [(one.command, one.stage) for one in steps if one.stage == "server"] == [("gauges web", "server")]


@pytest.mark.parametrize(
    "line", ["gauges run $YOUR_COMMAND", "gauges trace -- <your command>", "gauges run your-app"]
)
def test_a_line_that_runs_the_readers_own_program_is_no_server(line: str) -> None:
    assert stage_of(line, "Usage", vocabulary(), frozenset({"gauges"})) == ""


def test_descriptions_in_a_code_block_are_no_commands() -> None:
    text = (
        "# Gauges\n\n## Running\n\n```\nseed_data (action=ns;required): what is added\n(cd web && npm start)\n"
        'gauges serve --name "north (upper)" --port $(cat port)\nFOO=(1 2) gauges serve --host x\n```\n'
    )
    steps = read_steps(text, "README.md", vocabulary(), frozenset({"gauges"}))
    assert [one.command for one in steps][:2] == [
        "(cd web && npm start)",
        'gauges serve --name "north (upper)" --port $(cat port)',
    ]
