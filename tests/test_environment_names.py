"""An environment under another name: one that is here, one that the project names, one that the person asks for."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest
from conftest import Machine, package

from plainfall.clone.walk import walk
from plainfall.ecosystems.python.runtime.environment_names import environment_folders

APP = {"app.py": "", "requirements.txt": "gaugekit\n"}


@pytest.mark.parametrize(
    ("files", "names"),
    [
        ({"README.md": "Run `python3 -m venv env` first.\n"}, ["env"]),
        ({"README.md": "    virtualenv -p python3 venv-rain/\n"}, ["venv-rain"]),
        ({"README.md": "    python -m venv .venv\n"}, []),
        (
            {
                "README.md": "    python -m venv ../env\n    python -m venv /tmp/env\n    python -m venv $HOME/env\n"
            },
            [],
        ),
        ({".gitignore": "*.pyc\n/env/\n.env\n"}, ["env"]),
        ({".gitignore": "env/\nvenv/\nENV/\n"}, []),
        ({"README.md": "    python -m venv env\n", "env/pyvenv.cfg": "home = /usr/bin\n"}, ["env"]),
        ({"README.md": "    python -m venv env\n", "env/readings.csv": "1\n"}, []),
        ({"README.md": "    python -m venv env\n", ".venv/pyvenv.cfg": ""}, []),
    ],
)
def test_names_of_environments(machine: Machine, files: dict[str, str], names: list[str]) -> None:
    assert environment_folders(walk(machine.clone(files)), "") == names


@pytest.mark.needs("git")
def test_an_environment_that_the_clone_brings_is_not_used(machine: Machine) -> None:
    clone = machine.clone({"env/pyvenv.cfg": "home = /usr/bin\n", **APP})
    for words in (["init", "-q"], ["add", "-f", "-A"]):
        subprocess.run(["git", *words], cwd=clone, check=True)
    assert environment_folders(walk(clone), "") == []


def test_the_environment_that_the_readme_names_is_made_and_found_again(machine: Machine, offer) -> None:  # type: ignore[no-untyped-def]
    from plainfall.standins.registry import Archive

    offer([Archive.of(package())])
    clone = machine.clone({**APP, "README.md": "# Rain\n\n    python -m venv env\n    . env/bin/activate\n"})
    run = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert run.status == 0 and run.step("environment")["title"].startswith("env made")
    assert (clone / "env/bin/python").exists() and not (clone / ".venv").exists()
    (clone / "README.md").unlink()
    again = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert again.states["environment"] == again.states["dependencies"] == "kept"
    inside = machine.run("inside", clone, "--", "python", "-c", "import gaugekit, sys; print(sys.prefix)")
    assert inside.out.strip() == str(clone / "env")


def test_an_environment_by_option_and_the_usual_one_again(machine: Machine) -> None:
    clone = machine.clone({"app.py": "", "requirements.txt": ""})
    words = ("--until", "dependencies", "--json")
    assert machine.run("onboard", clone, "--environment", "venv-rain/", *words).status == 0
    assert machine.run("onboard", clone, *words).step("environment")["title"] == "venv-rain"
    assert (
        machine.run("onboard", clone, "--environment", "none", *words)
        .step("environment")["title"]
        .startswith(".venv")
    )
    for bad in ("../env", "/tmp/env", ".git", ""):
        assert machine.run("onboard", clone, "--environment", bad, *words).status == 2
    taken = machine.run("onboard", clone, "--environment", "app.py", *words)
    assert taken.status == 1 and (clone / "app.py").is_file()


def test_an_environment_of_the_persons_own_is_used(machine: Machine) -> None:
    clone = machine.clone({"app.py": "", "requirements.txt": ""})
    subprocess.run([sys.executable, "-m", "venv", "--without-pip", clone / "env"], check=True)
    path = os.pathsep.join([str(Path(sys.executable).resolve().parent), machine.variables["PATH"]])
    run = machine.run("onboard", clone, "--until", "dependencies", "--json", PATH=path, timeout=60)
    step = run.step("environment")
    if step["title"] != "env":  # another Python was chosen: what does not fit is left alone
        assert step["title"].startswith(".venv")
    else:
        assert step["state"] == "kept" and "not made by Plainfall" in step["why"]
    assert (clone / "env/pyvenv.cfg").exists()
