"""A template's own script that gives the project its name: told of, run once where a person answers, never unasked."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

import pytest
from conftest import SERVER, Machine

from plainfall.clone.walk import walk
from plainfall.errors import CommandFailed
from plainfall.onboarding.records.state import CloneState
from plainfall.onboarding.run.template_scripts import fit_template, template_scripts
from plainfall.settings.setting import Consent, Question
from plainfall.surroundings import Surroundings

SCRIPT = """\
#!/bin/sh
# Writes the project's name over that of the template.
test -n "$1" || exit 2
sed -i "s/rain_template/$1/g" app.py README.md
"""
FILES = {
    "bin/rename": SCRIPT,
    "app.py": f"NAME = 'rain_template'\n{SERVER}",
    "README.md": "# rain_template\n",
    "requirements.txt": "",
    "Procfile": "web: python app.py\n",
    "notes.txt": "rain",
}


@pytest.fixture
def clone(machine: Machine) -> Path:
    folder = machine.clone(FILES)
    (folder / "bin/rename").chmod(0o755)
    for words in (
        ["init", "-q"],
        ["add", "."],
        ["-c", "user.name=R", "-c", "user.email=r@rain.example", "commit", "-qm", "1"],
    ):
        subprocess.run(["git", *words], cwd=folder, check=True)
    return folder


def fitted(machine: Machine, clone: Path, answer: str | None) -> tuple[bool, list[str], list[Question]]:
    asked: list[Question] = []

    def ask(question: Question | Consent) -> str | None:
        assert isinstance(question, Question)
        asked.append(question)
        return answer

    surroundings = Surroundings(
        {"PATH": os.environ["PATH"]}, clone, machine.home, machine.home / "cache", machine.home / "state"
    )
    state = CloneState(clone, surroundings.state)
    with state.locked():
        changed, said = fit_template(walk(clone), state, surroundings, ask)
    return changed, [text for text, _ in said], asked


@pytest.mark.needs("git")
def test_it_is_told_of_and_not_run_where_nobody_answers(machine: Machine, clone: Path) -> None:
    run = machine.run("onboard", clone, "--until", "runtime", "--json")
    [remark] = [str(one) for one in run.document["remarks"] if "bin/rename" in str(one)]
    assert "it would change README.md, app.py" in remark and "plainfall inside -- bin/rename NAME" in remark
    assert (clone / "README.md").read_text() == "# rain_template\n"


@pytest.mark.needs("git")
def test_it_runs_once_with_the_name_that_a_person_gives(machine: Machine, clone: Path) -> None:
    changed, said, [question] = fitted(machine, clone, "hollin_rain")
    assert changed and said == ["bin/rename 'hollin_rain' was run: it changed README.md, app.py"]
    assert question.proposed == "gauges" and "it would change README.md, app.py" in question.why
    assert (clone / "README.md").read_text() == "# hollin_rain\n"
    changed, said, asked = fitted(machine, clone, "other")
    assert not changed and not said and not asked


@pytest.mark.parametrize("answer", ["no", "", None, "a; touch climbed", "../x"])
@pytest.mark.needs("git")
def test_no_is_remembered_and_what_is_no_name_is_no(
    machine: Machine, clone: Path, answer: str | None
) -> None:
    changed, [said], _ = fitted(machine, clone, answer)
    assert not changed and "was not run, as you said" in said
    assert (clone / "README.md").read_text() == "# rain_template\n"
    assert not fitted(machine, clone, "rain")[2]


@pytest.mark.needs("git")
def test_its_failure_is_shown(machine: Machine, clone: Path) -> None:
    (clone / "bin/rename").write_text(SCRIPT.replace("test -n", "echo no rain >&2; exit 3; test -n"))
    with pytest.raises(CommandFailed, match="ended with status 3") as error:
        fitted(machine, clone, "rain")
    assert error.value.lines == ("no rain",)


def test_what_is_no_such_script(machine: Machine) -> None:
    files = {"bin/setup": SCRIPT, "bin/rename.rb": "puts 1", "tools/rename": SCRIPT, "lib/bin/rename": SCRIPT}
    assert not list(template_scripts(walk(machine.clone(files))))
