"""Every place that asks for a Python, with its strength and line; and what is made of all of them."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import Machine, package, resealed

from plainfall.clone.walk import walk
from plainfall.ecosystems.python.install.wheel_names import has_wheel
from plainfall.ecosystems.python.runtime.asks import python_asks
from plainfall.standins.registry import Archive, Registry

PLACES = {
    ".tool-versions": ("nodejs 20.1.0\npython 3.11.4 3.10.2\n", ["3.11.4|PIN|2"]),
    "runtime.txt": ("python-3.12.1\n", ["3.12.1|PIN|1"]),
    ".python-version": ("# pinned\n3.12\n", ["3.12|PIN|2"]),
    "environment.yml": ("name: rain\ndependencies:\n  - numpy\n  - python=3.11\n", ["3.11|PIN|4"]),
    "environment.yaml": ("dependencies:\n  - python>=3.10\n", [">=3.10|RANGE|2"]),
    "uv.lock": ('version = 1\nrequires-python = ">=3.11, <4"\n', [">=3.11, <4|RANGE|2"]),
    "pdm.lock": ('[metadata]\nrequires_python = ">=3.10"\n', [">=3.10|RANGE|2"]),
    "poetry.lock": (
        '[[package]]\npython-versions = ">=2"\n[metadata]\npython-versions = "^3.10"\n',
        ["^3.10|RANGE|4"],
    ),
    "Pipfile.lock": ('{"_meta": {"requires": {\n"python_version": "3.12"}}}', ["3.12|PREFERENCE|2"]),
    "Pipfile": ('[requires]\npython_version = "3.12"\n', ["3.12|PIN|2"]),
    "setup.cfg": (
        "[options]\npython_requires = >=3.9\n[metadata]\nclassifiers =\n"
        "    Programming Language :: Python :: 3.11\n",
        [">=3.9|RANGE|2", "3.11|HINT|5"],
    ),
    "setup.py": ("setup(\n    python_requires='>=3.9,<3.13',\n)\n", [">=3.9,<3.13|RANGE|2"]),
    "pyproject.toml": (
        "[project]\nname='x'\nrequires-python='~=3.10'\nclassifiers=[\n"
        "'Programming Language :: Python :: 3.12',\n]\n",
        ["~=3.10|RANGE|3", "3.12|HINT|5"],
    ),
    "Dockerfile": (
        "ARG LINE=3.11\nFROM node:20 AS client\nFROM --platform=linux/amd64 docker.example/python:${LINE}-slim\n",
        ["3.11|PREFERENCE|3"],
    ),
    ".devcontainer/devcontainer.json": (
        '{\n  // rain\n  "image": "dev.example/python:1-3.12",\n}',
        ["3.12|PREFERENCE|3"],
    ),
    ".github/workflows/check.yml": (
        "jobs:\n  test:\n    strategy:\n      matrix:\n        python-version: ['3.11', \"3.12\"]\n"
        "    steps:\n      - with:\n          python-version: ${{ matrix.python-version }}\n",
        ["3.11|HINT|5", "3.12|HINT|5"],
    ),
    ".gitlab-ci.yml": ("image: python:3.12-slim\n", ["3.12|PREFERENCE|1"]),
    "tox.ini": ("[tox]\nenvlist = py{311,312}, lint\n", ["3.11|HINT|2", "3.12|HINT|2"]),
    "noxfile.py": (
        "import nox\n@nox.session(python=['3.11', '3.12'])\ndef tests(session): ...\n",
        ["3.11|HINT|2", "3.12|HINT|2"],
    ),
    "README.md": ("# Rain\n\nYou need Python 3.11 or later.\n", ["Python 3.11 or later|PREFERENCE|3"]),
    "readme.rst": ("It was written for Python 3.12.\n", ["Python 3.12|HINT|1"]),
}


@pytest.mark.parametrize("name", PLACES)
def test_each_place_is_read(tmp_path: Path, name: str) -> None:
    text, expected = PLACES[name]
    file = tmp_path / name
    file.parent.mkdir(parents=True, exist_ok=True)
    file.write_text(text)
    asks = python_asks(walk(tmp_path), "")
    assert [f"{ask.text}|{ask.strength.name}|{ask.evidence.line}" for ask in asks] == expected
    assert all(ask.evidence.path == name for ask in asks)


@pytest.mark.parametrize("name", [n for n in PLACES if n not in (".python-version", "pyproject.toml")])
@pytest.mark.parametrize("text", ["", "\0\xff", "python\n", "{", "requires-python = 7\npython = =\nFROM\n"])
def test_places_that_mean_something_else_ask_for_nothing(tmp_path: Path, name: str, text: str) -> None:
    file = tmp_path / name
    file.parent.mkdir(parents=True, exist_ok=True)
    file.write_bytes(text.encode("latin-1"))
    assert python_asks(walk(tmp_path), "") == []


def test_wheels_for_a_version_by_their_tags() -> None:
    name = "kit-1.0-{}-linux_x86_64.whl"
    assert has_wheel([name.format("cp312-cp312")], "3.12.1")
    assert not has_wheel([name.format("cp312-cp312")], "3.13.0")
    assert has_wheel([name.format("cp39-abi3")], "3.13.0")
    assert not has_wheel([name.format("cp313-abi3")], "3.12.1")
    assert has_wheel(["kit-1.0-py2.py3-none-any.whl"], "3.12.1") and not has_wheel(
        ["kit-1.0.tar.gz"], "3.12.1"
    )


def fake(machine: Machine, version: str, **more: object) -> None:
    """An interpreter that answers as that version; only the choice looks at it."""
    from plainfall.ecosystems.python.runtime.interpreters import ask_python

    place = machine.home / f".rain/versions/{version}/bin"
    place.mkdir(parents=True)
    file = place / f"python{'.'.join(version.split('.')[:2])}"
    own = dict(ask_python(Path("/proc/self/exe").resolve()))
    facts = {**own, "version": version, "executable": str(file), **more}
    file.write_text(f"#!/bin/sh\ncat <<'X'\n{facts!r}\nX\n")
    file.chmod(0o755)


def choice(machine: Machine, files: dict[str, str]) -> tuple[str, list[str], list[str]]:
    machine.variables["PATH"] = "/usr/bin:/bin"
    run = machine.run("onboard", machine.clone(files), "--until", "runtime", "--json")
    assert run.status == 0, run.out + run.err
    step = run.step("runtime")
    reasons = [f"{other['version']}: {other['reason']}" for other in step["detail"]["rejected"]]
    return step["detail"]["chosen"]["version"], step["remarks"], reasons


UV = """\
version = 1
requires-python = ">=3.30"

[[package]]
name = "rain"
version = "1"
source = { virtual = "." }
dependencies = [{ name = "kit" }]

[[package]]
name = "kit"
version = "1.0"
source = { registry = "https://registry.example/simple" }
wheels = [{ url = "https://registry.example/kit-1.0-cp331-cp331-manylinux_2_17_x86_64.whl", hash = "sha256:abababababababababababababababababababababababababababababababab" }]
"""


def test_a_lock_whose_wheels_are_for_an_older_version_decides(machine: Machine) -> None:
    for version in ("3.31.2", "3.32.1"):
        fake(machine, version)
    version, remarks, _ = choice(machine, {"uv.lock": UV, "app.py": ""})
    assert version == "3.31.2"
    assert remarks == ["3.31.2 is taken: for 3.32.1 there is no wheel of kit 1.0"]


def test_a_hint_decides_among_equals_and_a_pin_over_a_range(machine: Machine) -> None:
    for version in ("3.31.2", "3.32.1"):
        fake(machine, version)
    hint = "[project]\nname='x'\nrequires-python='>=3.31'\nclassifiers=['Programming Language :: Python :: 3.31']\n"
    assert choice(machine, {"pyproject.toml": hint})[0] == "3.31.2"
    files = {"pyproject.toml": "[project]\nname='x'\nrequires-python='>=3.32'\n", ".python-version": "3.31\n"}
    version, remarks, _ = choice(machine, files)
    assert version == "3.31.2" and "pyproject.toml:3" in remarks[0]


def test_one_without_a_module_that_the_code_imports_is_passed_over(machine: Machine) -> None:
    fake(machine, "3.32.1", sqlite3=False)
    fake(machine, "3.31.2")
    fake(machine, "3.33.0", threads_free=True)
    files = {
        "app.py": "import os\nimport sqlite3\n",
        ".python-version": "",
        "setup.cfg": "[options]\npython_requires = >=3.31\n",
    }
    version, _, reasons = choice(machine, files)
    assert version == "3.31.2"
    assert "3.32.1: it was built without sqlite3, which app.py:2 imports" in reasons
    assert any(reason.startswith("3.33.0: a free-threaded build") for reason in reasons)


def test_one_without_headers_is_passed_over_where_something_must_be_built(machine: Machine) -> None:
    fake(machine, "3.32.1", headers=False)
    source = UV.replace("kit-1.0-cp331-cp331-manylinux_2_17_x86_64.whl", "kit-1.0.tar.gz")
    files = {"uv.lock": source, "app.py": ""}
    assert choice(machine, files)[0] == "3.32.1"
    fake(machine, "3.31.2", headers=True)
    version, _, reasons = choice(machine, files)
    assert version == "3.31.2"
    assert "3.32.1: it has no C headers, which building kit 1.0 may need" in reasons


def test_a_pinned_list_whose_wheels_are_for_an_older_version_decides(
    machine: Machine, offer: Callable[..., Registry]
) -> None:
    for version in ("3.31.2", "3.32.1"):
        fake(machine, version)
    registry = offer([Archive.of(package("kit", tag="cp331-cp331-linux_x86_64"))])
    files = {
        "requirements.txt": "kit==1.0\n",
        "setup.cfg": "[options]\npython_requires = >=3.31\n",
        "app.py": "",
    }
    version, remarks, _ = choice(machine, files)
    assert version == "3.31.2"
    assert remarks == ["3.31.2 is taken: for 3.32.1 there is no wheel of kit 1.0"]
    asked = len(registry.faults.asked)
    assert choice(machine, files)[0] == "3.31.2" and len(registry.faults.asked) == asked
    machine.run("survey", machine.home / "gauges")
    assert len(registry.faults.asked) == asked


def test_a_package_that_could_not_be_built_decides_from_then_on(
    machine: Machine, offer: Callable[..., Registry]
) -> None:
    for version in ("3.31.2", "3.32.1"):
        fake(machine, version)
    offer([Archive.of(package("kit", tag="cp331-cp331-linux_x86_64"))])
    files = {"requirements.txt": "kit\n", "setup.cfg": "[options]\npython_requires = >=3.31\n", "app.py": ""}
    assert choice(machine, files)[0] == "3.32.1"

    def noted(content: dict[str, Any]) -> dict[str, Any]:
        decided = {"version": 1, "team": "", "decisions": {"ready_package": ["kit", "1.0"]}}
        content["records"]["|decisions"] = decided
        return content

    resealed(machine, machine.home / "gauges", ".plainfall/state.json", "state.json", noted)
    version, remarks, _ = choice(machine, files)
    assert version == "3.31.2" and remarks == ["3.31.2 is taken: for 3.32.1 there is no wheel of kit 1.0"]
