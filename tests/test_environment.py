"""Virtual environments: by the specification, with scripts that activate and deactivate them."""

from __future__ import annotations

import shutil
import subprocess
import sys
from pathlib import Path

import pytest
from conftest import PYTHON_LINE, Machine

from plainfall.confinement import Confined
from plainfall.ecosystems.python.runtime.environment import make_environment, standing
from plainfall.ecosystems.python.runtime.interpreters import interpreter_at
from plainfall.ecosystems.python.runtime.tags import supported_tags
from plainfall.errors import EnvironmentProblem
from plainfall.sealing import Seal

ME = interpreter_at(Path(sys.executable))
MAIN = {"app.py": "print('gauge')\n"}


@pytest.fixture
def environment(tmp_path: Path) -> Path:
    folder = tmp_path / "it's a place" / ".venv"
    folder.parent.mkdir()
    make_environment(folder, ME, "rain's", tmp_path / "making", Confined(tmp_path), Seal(tmp_path, tmp_path))
    return folder


def test_the_interpreter_sees_itself_in_the_environment(environment: Path) -> None:
    code = (
        "import sys, sysconfig as s; print(sys.prefix, sys.base_prefix != sys.prefix, s.get_path('purelib'))"
    )
    done = subprocess.run(
        [environment / "bin/python", "-c", code], capture_output=True, text=True, check=True
    )
    prefix = str(environment)
    assert done.stdout.strip() == f"{prefix} True {prefix}/lib/python{PYTHON_LINE}/site-packages"
    assert standing(environment, ME, Seal(environment.parents[1], environment.parents[1])).state == "right"


SHELLS = {
    "sh": ". bin/activate; echo $VIRTUAL_ENV; command -v python; deactivate; "
    "echo ${VIRTUAL_ENV:-none}; echo $PATH",
    "bash": "set -eu; . bin/activate; echo $VIRTUAL_ENV; command -v python; deactivate; "
    "echo ${VIRTUAL_ENV:-none}; echo $PATH",
    "fish": "source bin/activate.fish; echo $VIRTUAL_ENV; command -v python; deactivate; "
    "set -q VIRTUAL_ENV; and echo set; or echo none; string join : $PATH",
    "tcsh": "source bin/activate.csh\necho $VIRTUAL_ENV\nwhich python\ndeactivate\n"
    "if ($?VIRTUAL_ENV) echo set\nif (! $?VIRTUAL_ENV) echo none\necho $PATH\n",
}


@pytest.mark.parametrize("shell", SHELLS)
def test_activation_and_back(environment: Path, shell: str) -> None:
    if shutil.which(shell) is None:
        pytest.skip(f"{shell} is not installed")
    # csh puts aliases in when it reads a line, so it gets its lines one by one.
    words = [shell, "-f"] if shell == "tcsh" else [shell, "-c", SHELLS[shell]]
    done = subprocess.run(
        words,
        input=SHELLS[shell],
        cwd=environment,
        env={"PATH": "/usr/bin:/bin", "HOME": "/nonexistent", "TERM": "dumb"},
        capture_output=True,
        text=True,
        check=False,
    )
    expected = [str(environment), f"{environment}/bin/python", "none", "/usr/bin:/bin"]
    assert done.stdout.splitlines() == expected, done.stderr


def test_tags_equal_those_of_the_reference_for_this_interpreter() -> None:
    from packaging.tags import sys_tags

    # A plain linux tag is ranked first by some versions of the reference and last by others.
    def ranked(tags: object) -> list[str]:
        return [str(tag) for tag in tags if "-linux_" not in str(tag)]  # type: ignore[attr-defined]

    assert ranked(supported_tags(ME.facts)) == ranked(sys_tags())
    assert {str(tag) for tag in supported_tags(ME.facts)} == {str(tag) for tag in sys_tags()}


def test_one_that_someone_else_made_and_is_right_is_kept(machine: Machine) -> None:
    clone = machine.clone({"requirements.txt": "", ".python-version": PYTHON_LINE, **MAIN})
    subprocess.run([sys.executable, "-m", "venv", "--without-pip", ".venv"], cwd=clone, check=True)
    before = (clone / ".venv/pyvenv.cfg").read_text()
    run = machine.run("onboard", clone, "--until", "environment", "--json")
    assert run.states["environment"] == "kept" and (clone / ".venv/pyvenv.cfg").read_text() == before


def test_one_that_someone_else_made_and_is_wrong_is_never_replaced(machine: Machine) -> None:
    clone = machine.clone({".venv/notes.txt": "mine\n", ".python-version": PYTHON_LINE, **MAIN})
    run = machine.run("onboard", clone)
    assert run.status == 1 and "Plainfall did not make it" in run.err and "mv .venv .venv-old" in run.err
    assert (clone / ".venv/notes.txt").read_text() == "mine\n"


def test_one_of_ours_that_was_moved_is_made_anew(machine: Machine) -> None:
    clone = machine.clone({".python-version": PYTHON_LINE, **MAIN})
    assert machine.run("onboard", clone, "--until", "environment").status == 0
    moved = clone.rename(clone.with_name("moved"))
    run = machine.run("onboard", moved, "--until", "environment", "--json")
    assert run.states["environment"] == "done" and "moved here" in run.step("environment")["why"]
    assert str(moved) in (moved / ".venv/bin/activate").read_text()


def test_a_foreign_one_is_refused_by_the_making_itself(tmp_path: Path) -> None:
    (tmp_path / ".venv").mkdir()
    (tmp_path / ".venv/keep").write_text("mine")
    with pytest.raises(EnvironmentProblem):
        make_environment(
            tmp_path / ".venv", ME, "x", tmp_path / "making", Confined(tmp_path), Seal(tmp_path, tmp_path)
        )
