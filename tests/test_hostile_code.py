"""Nothing runs that was not allowed, nothing of the person's reaches what runs, and a package lays only its own."""

from __future__ import annotations

import io
import json
import os
import shutil
import sys
import time
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import PYTHON_LINE, SERVER, Machine, locked, package
from hostile import Outside, outside
from node_clones import lock, package_json
from test_building import source_package

from plainfall.ecosystems.python.install.wheel import describe_wheel
from plainfall.errors import ArchiveRefused
from plainfall.packages.unpacking import unpack_zip
from plainfall.standins.building import Built
from plainfall.standins.node_registry import node_archive
from plainfall.standins.registry import Archive

__all__ = ["outside"]
pytestmark = pytest.mark.hostile
CANARIES = {
    "AWS_SECRET_ACCESS_KEY": "canary-5f1c-secret",
    "GITHUB_TOKEN": "canary-77aa-token",
    "NPM_TOKEN": "canary-19be-token",
    "DATABASE_URL": "canary-3c3c-address",
    "NODE_OPTIONS": "--title=canary-0d0d",
    "PYTHONSTARTUP": "/canary-8e8e",
    "LD_PRELOAD_CANARY": "canary-aaaa",
}
SITE = f".venv/lib/python{PYTHON_LINE}/site-packages"


def built(members: dict[str, bytes], name: str = "gaugekit") -> Built:
    return package(name, members=members)


def test_a_wheel_with_code_for_every_start_of_python_runs_none_of_it_at_install(
    machine: Machine, offer: Callable[..., Any], outside: Outside
) -> None:
    ran = machine.home / "ran"
    code = f"import os, pathlib; pathlib.Path({str(ran)!r}).write_text(str(dict(os.environ)))"
    kit = built(
        {
            "gauge.pth": f"import sys; exec({code!r})\n".encode(),
            "sitecustomize.py": code.encode(),
            "usercustomize.py": code.encode(),
            "py_compile.py": code.encode(),
            "tempfile.py": code.encode(),
        }
    )
    offer([Archive.of(kit)])
    del machine.variables["PYTHONDONTWRITEBYTECODE"]
    clone = machine.clone({"requirements.txt": locked(kit), "app.py": ""})
    machine.variables |= CANARIES
    run = machine.run("onboard", clone, "--until", "dependencies")
    assert run.status == 0, run.err
    deadline = time.monotonic() + 20
    while not list((clone / SITE).rglob("gaugekit/__pycache__/*.pyc")) and time.monotonic() < deadline:
        time.sleep(0.05)
    assert list((clone / SITE).rglob("gaugekit/__pycache__/*.pyc"))  # it was compiled all the same
    assert not ran.exists()


def spy(folder: Path, name: str, log: Path, then: str) -> None:
    """A program that notes its environment and goes on as another."""
    folder.mkdir(parents=True, exist_ok=True)
    (folder / name).write_text(f'#!/bin/sh\nenv >> "{log}"\necho "-- {name}" >> "{log}"\nexec {then} "$@"\n')
    (folder / name).chmod(0o755)


@pytest.mark.needs("git", "node")
def test_every_child_process_gets_the_short_list_of_variables(
    machine: Machine, offer: Callable[..., Any], node_registry: Any
) -> None:
    log, tools = machine.home / "environments", machine.home / "tools"
    spy(tools, "git", log, shutil.which("git") or "git")
    spy(machine.home / ".rain/versions/3.99/bin", "python3.99", log, sys.executable)
    spy(machine.home / ".rain/versions/99/bin", "node", log, shutil.which("node") or "node")
    repository = machine.home / "pump.git"
    repository.mkdir()
    (repository / "package.json").write_text('{"name": "pump", "version": "1.0.0"}')
    os.system(
        f"cd {repository} && git init -q && git add . && "
        "git -c user.name=x -c user.email=x@rain.example commit -qm x"
    )
    note = f"import os\nopen({str(log)!r}, 'a').write(repr(dict(os.environ)) + '-- build\\n')\n"
    setup = f"{note}from setuptools import setup\nsetup(name='soil', version='1.0', py_modules=['soil'])\n"
    backend = (
        f"{note}import zipfile\n"
        "def get_requires_for_build_wheel(config_settings=None): return []\n"
        "def build_wheel(folder, config_settings=None, metadata_directory=None):\n"
        "    name = 'soil-1.0-py3-none-any.whl'\n"
        "    with zipfile.ZipFile(f'{folder}/{name}', 'w') as wheel:\n"
        "        wheel.writestr('soil.py', '')\n"
        "        wheel.writestr('soil-1.0.dist-info/METADATA', 'Metadata-Version: 2.1\\nName: soil\\nVersion: 1.0\\n')\n"
        "        wheel.writestr('soil-1.0.dist-info/WHEEL', 'Wheel-Version: 1.0\\n')\n"
        "        wheel.writestr('soil-1.0.dist-info/RECORD', '')\n"
        "    return name\n"
    )
    assert setup
    manifest = '[build-system]\nrequires = []\nbuild-backend = "made"\nbackend-path = ["."]\n'
    soil = source_package("soil", {"pyproject.toml": manifest, "made.py": backend})
    offer([soil])
    own = f"env >> {log}; echo '-- install code' >> {log}"
    bell = node_archive("bell", "1.0.0", scripts={"install": own})
    node_registry([bell])
    server = f"import os\nopen({str(log)!r}, 'a').write(repr(dict(os.environ)) + '-- server\\n')\n" + SERVER
    clone = machine.clone(
        {
            "requirements.txt": "soil==1.0\n",
            "app.py": server,
            "seed.py": note.replace("build", "seeds"),
            "README.md": "## Setup\n\n```sh\npython seed.py\n```\n",
            "page/package.json": package_json(
                [bell], dependencies={"bell": "1.0.0", "pump": f"git+file://{repository}"}
            ),
        }
    )
    machine.variables["PATH"] = f"{tools}:{machine.variables['PATH']}"
    machine.variables |= CANARIES
    run = machine.run("onboard", clone, "--allow-install-code", "bell")
    assert run.status == 0, run.out + run.err
    machine.run("stop", clone)
    text = log.read_text()
    for name in ("git", "python3.99", "node", "build", "install code", "seeds", "server"):
        assert f"-- {name}" in text, name
    assert [value for value in CANARIES.values() if value in text] == []


@pytest.mark.parametrize(
    "path",
    [
        "gaugekit-1.0.data/scripts/python",
        "gaugekit-1.0.data/scripts/python3",
        "gaugekit-1.0.data/scripts/activate",
        "gaugekit-1.0.data/data/pyvenv.cfg",
        "gaugekit-1.0.data/data/bin/python3.11",
        f"gaugekit-1.0.data/data/lib/python{PYTHON_LINE}/site-packages/sitecustomize.py",
        "gaugekit-1.0.data/purelib/flask-3.0.dist-info/METADATA",
        "gaugekit-1.0.data/headers/../../../evil.h",
    ],
)
def test_a_wheel_that_holds_parts_of_the_environment_is_refused(
    machine: Machine, offer: Callable[..., Any], outside: Outside, path: str
) -> None:
    kit = built({path: b"#!/bin/sh\necho taken over\n"})
    offer([Archive.of(kit)])
    clone = machine.clone({"requirements.txt": locked(kit), "app.py": ""})
    run = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert run.status == 1 and run.document["failure"]["kind"] == "ArchiveRefused"
    assert os.readlink(clone / ".venv/bin/python").startswith("/")


@pytest.mark.parametrize("name", ["python", "python3", "../../evil", "activate", "a\0b", "a\nb"])
def test_a_command_that_would_replace_the_environments_own_is_refused(tmp_path: Path, name: str) -> None:
    info = "gaugekit-1.0.dist-info"
    folder = tmp_path / info
    folder.mkdir()
    (folder / "METADATA").write_text("Name: gaugekit\nVersion: 1.0\n")
    (folder / "WHEEL").write_text("Wheel-Version: 1.0\n")
    (folder / "RECORD").write_text("")
    (folder / "entry_points.txt").write_text(f"[console_scripts]\n{name} = gaugekit:main\n")
    from plainfall.packages.unpacking import Unpacked

    with pytest.raises(ArchiveRefused):
        facts = describe_wheel(tmp_path, [Unpacked(f"{info}/METADATA", 0o644, 1, 1)])
        if facts["entries"] in ([], [["b", "gaugekit", "main", "console"]]):
            raise ArchiveRefused("the line end ends the name, and no such command is made")


@pytest.mark.parametrize("order", ["first", "last"])
def test_a_file_of_another_distribution_is_not_replaced(
    machine: Machine, offer: Callable[..., Any], order: str
) -> None:
    kit = package()
    evil = package(
        "aaa" if order == "first" else "zzz", members={"gaugekit/__init__.py": b"taken = 'over'\n"}
    )
    offer([Archive.of(kit), Archive.of(evil)])
    clone = machine.clone({"requirements.txt": locked(kit, evil), "app.py": ""})
    run = machine.run("onboard", clone, "--until", "dependencies")
    assert run.status == 0 and (clone / SITE / "gaugekit/__init__.py").read_text() == "VERSION = '1.0'\n"
    assert f"{evil.name} holds files of gaugekit" in " ".join(run.err.split())
    # Taking the one out leaves the other's file.
    (clone / "requirements.txt").write_text(locked(kit))
    again = machine.run("onboard", clone, "--until", "dependencies")
    assert again.status == 0 and (clone / SITE / "gaugekit/__init__.py").is_file()


def test_a_record_that_lists_foreign_files_takes_nothing_foreign_out(
    machine: Machine, offer: Callable[..., Any], outside: Outside
) -> None:
    kit, evil = package(), package("leaf")
    offer([Archive.of(kit), Archive.of(evil)])
    clone = machine.clone({"requirements.txt": locked(kit, evil), "app.py": ""})
    assert machine.run("onboard", clone, "--until", "dependencies").status == 0
    record = clone / SITE / "leaf-1.0.dist-info/RECORD"
    foreign = [
        "gaugekit/__init__.py",
        "../../../bin/python",
        "../../../pyvenv.cfg",
        "../../../../requirements.txt",
    ]
    foreign += [f"../../../../../outside/{path}" for path in ("readings.log", "letters/precious.txt")]
    foreign += ["../../../bin/activate", str(outside.folder / "readings.log")]
    record.write_text(record.read_text() + "".join(f"{path},,\n" for path in foreign))
    (clone / "requirements.txt").write_text(locked(kit))
    run = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert run.status == 0 and run.step("dependencies")["detail"]["taken_out"] == ["leaf 1.0"]
    for path in (
        f"{SITE}/gaugekit/__init__.py",
        ".venv/bin/python",
        ".venv/pyvenv.cfg",
        ".venv/bin/activate",
    ):
        assert os.path.lexists(clone / path), path
    assert (clone / "requirements.txt").is_file()


def test_a_record_in_a_wheel_counts_only_for_what_the_wheel_holds(tmp_path: Path) -> None:
    kit = package()
    content = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(kit.content)) as old, zipfile.ZipFile(content, "w") as new:
        for info in old.infolist():
            data = old.read(info)
            if info.filename.endswith("RECORD"):
                data += b"flask/__init__.py,,\n../../../bin/python,,\n\xff\xfe.py,,\n"
            new.writestr(info, data)
    archive = tmp_path / kit.filename
    archive.write_bytes(content.getvalue())
    (tmp_path / "out").mkdir()
    facts = describe_wheel(tmp_path / "out", unpack_zip(archive, tmp_path / "out"))
    assert "flask" not in facts["record"] and "python" not in facts["record"]


BELL = node_archive("bell", "1.0.0")


@pytest.mark.parametrize(
    "integrity", ["md5-XUFAKrxLKna5cZ2REBfFkg==", "sha512-!!!", "garbage", "sha1-AAAA", "sha512-"]
)
@pytest.mark.needs("node")
def test_an_integrity_that_protects_nothing_is_refused(
    machine: Machine, node_registry: Any, integrity: str
) -> None:
    node_registry([BELL])
    text = json.loads(lock([BELL]))
    text["packages"]["node_modules/bell"]["integrity"] = integrity
    clone = machine.clone({"package.json": package_json([BELL]), "package-lock.json": json.dumps(text)})
    run = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert run.status == 1 and run.document["failure"]["kind"] == "DependencyProblem"
    assert not (clone / "node_modules/bell").exists()


@pytest.mark.needs("node")
def test_an_integrity_that_is_missing_is_said(machine: Machine, node_registry: Any) -> None:
    node_registry([BELL])
    text = json.loads(lock([BELL]))
    del text["packages"]["node_modules/bell"]["integrity"]
    clone = machine.clone({"package.json": package_json([BELL]), "package-lock.json": json.dumps(text)})
    run = machine.run("onboard", clone, "--until", "dependencies")
    assert run.status == 0 and "has no hash of bell 1.0.0" in " ".join(run.err.split())


def test_a_wheel_that_was_built_with_one_registry_is_not_taken_for_another(
    machine: Machine, offer: Callable[..., Any]
) -> None:
    """The source is the same, and its hash right: what a clone's own registry made of it is that clone's."""
    backend = (
        "import zipfile, helper_text\n"
        "def get_requires_for_build_wheel(config_settings=None): return []\n"
        "def build_wheel(folder, config_settings=None, metadata_directory=None):\n"
        "    name = 'soil-1.0-py3-none-any.whl'\n"
        "    with zipfile.ZipFile(f'{folder}/{name}', 'w') as wheel:\n"
        "        wheel.writestr('soil.py', helper_text.TEXT)\n"
        "        wheel.writestr('soil-1.0.dist-info/METADATA', 'Metadata-Version: 2.1\\nName: soil\\nVersion: 1.0\\n')\n"
        "        wheel.writestr('soil-1.0.dist-info/WHEEL', 'Wheel-Version: 1.0\\n')\n"
        "        wheel.writestr('soil-1.0.dist-info/RECORD', '')\n"
        "    return name\n"
    )
    manifest = '[build-system]\nrequires = ["helper"]\nbuild-backend = "made"\nbackend-path = ["."]\n'
    soil = source_package("soil", {"pyproject.toml": manifest, "made.py": backend})
    helpers = [
        package("helper", members={"helper_text.py": f"TEXT = {text!r}\n".encode()})
        for text in ("evil", "good")
    ]
    for name, helper in zip(("attacker", "mine"), helpers, strict=True):
        registry = offer([soil, Archive.of(helper)])
        index = registry.url if name == "attacker" else ""
        files = {
            "requirements.txt": (f"--index-url {index}\n" if index else "") + "soil==1.0\n",
            "app.py": "",
        }
        clone = machine.clone(files, name)
        run = machine.run("onboard", clone, "--until", "dependencies")
        assert run.status == 0, run.err
        assert (clone / SITE / "soil.py").read_text() == ("evil" if name == "attacker" else "good")


@pytest.mark.needs("node")
def test_install_code_that_was_cut_off_runs_at_the_next_run(machine: Machine, node_registry: Any) -> None:
    code = "if [ -e ../../allow ]; then echo built > made; else touch started; sleep 60; fi"
    bell = node_archive("bell", "1.0.0", scripts={"install": code})
    node_registry([bell])
    clone = machine.clone({"package.json": package_json([bell]), "package-lock.json": lock([bell])})
    first = machine.start("onboard", clone, "--until", "dependencies", "--allow-install-code", "bell")
    deadline = time.monotonic() + 20
    while not (clone / "node_modules/bell/started").exists() and time.monotonic() < deadline:
        time.sleep(0.05)
    first.kill()
    first.communicate()
    (clone / "allow").touch()
    for _ in range(2):
        again = machine.run("onboard", clone, "--until", "dependencies", "--allow-install-code", "bell")
        assert again.status == 0, again.err
        assert (clone / "node_modules/bell/made").read_text() == "built\n"
