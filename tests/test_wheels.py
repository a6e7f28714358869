"""Laying wheels: the tree is what the runtime's own client lays down; what was taken away comes back."""

from __future__ import annotations

import csv
import os
import stat
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import PYTHON_LINE, Machine, locked, package

from plainfall.standins.building import Built, build_all
from plainfall.standins.registry import Archive, Faults, Registry
from plainfall.standins.sample_clone import lock_text

Offer = Callable[..., Registry]
MAIN = {"app.py": "print('gauge')\n"}
OWN_MARKS = {"INSTALLER", "RECORD"}


def onboarded(machine: Machine, lock: str, name: str = "gauges") -> Path:
    clone = machine.clone({"requirements.txt": lock, ".python-version": PYTHON_LINE, **MAIN}, name)
    run = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert run.status == 0, run.out + run.err
    return clone


def tree(environment: Path) -> dict[str, tuple[int, bytes]]:
    """Every file of an environment but bytecode, interpreter links, activation and the client's own files:
    path to mode and content, with the environment's own path masked."""
    found = {}
    for path in sorted(environment.rglob("*")):
        inner = path.relative_to(environment).as_posix()
        own = (
            path.name in OWN_MARKS
            or inner.split("/")[0] == "lib64"
            or "/pip" in inner
            or "/setuptools" in inner
        )
        in_bin = inner.startswith("bin/") and path.name.lower().startswith(("python", "activate", "pip"))
        if path.is_dir() or own or in_bin or "__pycache__" in inner or inner in ("pyvenv.cfg", ".gitignore"):
            continue
        content = path.read_bytes().replace(str(environment).encode(), b"ENV")
        if inner.startswith("bin/"):
            # The text of a command's wrapper is each client's own; its first line and target count.
            lines = content.decode().splitlines()
            content = "\n".join([lines[0], *[line for line in lines if line.startswith("from ")]]).encode()
        found[inner] = (stat.S_IMODE(path.stat().st_mode), content)
    return found


def records(environment: Path) -> dict[str, set[str]]:
    """Each RECORD's paths without bytecode, by distribution."""
    found = {}
    for record in environment.glob("lib/python*/site-packages/*.dist-info/RECORD"):
        rows = [row[0] for row in csv.reader(record.open())]
        found[record.parent.name] = {row for row in rows if not row.endswith(".pyc")}
    return found


def by_hand(machine: Machine, clone: Path) -> Path:
    subprocess.run([sys.executable, "-m", "venv", "--without-pip", "hand"], cwd=clone, check=True)
    command = [
        sys.executable,
        "-m",
        "pip",
        "--python",
        "hand/bin/python",
        "install",
        "-q",
        "-r",
        "requirements.txt",
    ]
    subprocess.run(command, cwd=clone, check=True, env=machine.variables, capture_output=True)
    return clone / "hand"


def test_the_tree_equals_what_the_bundled_client_lays_down(machine: Machine, offer: Offer) -> None:
    odd = package(
        "odd-kit",
        members={
            "odd_kit-1.0.data/scripts/odd-report": b"#!python\nprint('rain')\n",
            "odd_kit-1.0.data/scripts/odd-shell": b"#!/bin/sh\necho rain\n",
            "odd_kit-1.0.data/headers/odd.h": b"#define RAIN 1\n",
            "odd_kit-1.0.data/purelib/odd_extra.py": b"RAIN = 1\n",
            'odd_kit/with "quote", comma.txt': b"drizzle\n",
        },
        scripts={"odd": "odd_kit:main.run"},
    )
    built = [*build_all(), odd]
    offer([Archive.of(archive) for archive in built])
    clone = onboarded(machine, lock_text(built))
    hand = by_hand(machine, clone)
    assert tree(clone / ".venv") == tree(hand)
    assert records(clone / ".venv") == records(hand)
    assert (clone / ".venv/share/stationnames/about.txt").exists()


def test_commands_run_from_a_folder_with_a_space_in_its_name(machine: Machine, offer: Offer) -> None:
    kit = package(
        members={"gaugekit/say.py": b"def main():\n    print('rain')\n"}, scripts={"say": "gaugekit.say:main"}
    )
    offer([Archive.of(kit)])
    clone = onboarded(machine, locked(kit), "rain gauges")
    done = subprocess.run([clone / ".venv/bin/say"], capture_output=True, text=True, check=True)
    assert done.stdout == "rain\n"


def test_a_file_that_was_deleted_is_laid_again_without_the_network(machine: Machine, offer: Offer) -> None:
    kit = package()
    registry = offer([Archive.of(kit)])
    clone = onboarded(machine, locked(kit))
    asked = len(registry.faults.asked)
    laid = next((clone / ".venv").rglob("gaugekit/__init__.py"))
    laid.unlink()
    (laid.parent.parent / "gaugekit-1.0.dist-info/INSTALLER").unlink()
    assert machine.run("onboard", clone, "--until", "dependencies").status == 0
    assert laid.read_text() == "VERSION = '1.0'\n" and len(registry.faults.asked) == asked


def test_a_deleted_package_folder_is_noticed(machine: Machine, offer: Offer) -> None:
    kit = package()
    offer([Archive.of(kit)])
    clone = onboarded(machine, locked(kit))
    laid = next((clone / ".venv").rglob("gaugekit/__init__.py"))
    laid.unlink()
    run = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert run.states["dependencies"] == "done" and laid.exists()


def test_an_edit_of_an_installed_file_does_not_reach_other_clones(machine: Machine, offer: Offer) -> None:
    kit = package()
    offer([Archive.of(kit)])
    first = onboarded(machine, locked(kit), "first")
    laid = next((first / ".venv").rglob("gaugekit/__init__.py"))
    with laid.open("a") as file:  # in place: the same inode as the cache's
        file.write("VERSION = 'edited'\n")
    second = onboarded(machine, locked(kit), "second")
    assert next((second / ".venv").rglob("gaugekit/__init__.py")).read_text() == "VERSION = '1.0'\n"


def test_two_clones_share_the_files_of_the_cache(machine: Machine, offer: Offer) -> None:
    kit = package()
    offer([Archive.of(kit)])
    clones = [onboarded(machine, locked(kit), name) for name in ("first", "second")]
    inodes = {next((clone / ".venv").rglob("gaugekit/__init__.py")).stat().st_ino for clone in clones}
    assert len(inodes) == 1


def test_a_release_that_changes_takes_the_old_one_out(machine: Machine, offer: Offer) -> None:
    old, new = package(members={"gaugekit/old.py": b""}), package(version="2.0")
    offer([Archive.of(old), Archive.of(new)])
    clone = onboarded(machine, locked(old))
    (clone / "requirements.txt").write_text(locked(new))
    run = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert run.step("dependencies")["detail"]["laid"] == ["gaugekit 2.0"]
    names = [path.name for path in (clone / ".venv").rglob("gaugekit*")]
    assert sorted(names) == ["gaugekit", "gaugekit-2.0.dist-info"]
    assert not list((clone / ".venv").rglob("old.py"))


def test_what_someone_else_installed_stays_and_is_named(machine: Machine, offer: Offer) -> None:
    kit, other = package(), package("otherkit")
    offer([Archive.of(kit), Archive.of(other)])
    clone = onboarded(machine, locked(kit, other))
    (next((clone / ".venv").rglob("otherkit-1.0.dist-info")) / "INSTALLER").write_text("a person\n")
    (clone / "requirements.txt").write_text(locked(kit))
    run = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert "otherkit 1.0" in run.step("dependencies")["remarks"][0]
    assert list((clone / ".venv").rglob("otherkit/__init__.py"))


def tagged(tag: str) -> Built:
    return package(members={"gaugekit/made_for.txt": tag.encode()}, tag=tag)


def test_the_wheel_with_the_best_tag_is_taken(machine: Machine, offer: Offer) -> None:
    number = PYTHON_LINE.replace(".", "")
    best = f"cp{number}-cp{number}-manylinux_2_17_{os.uname().machine}"
    wheels = [tagged(tag) for tag in ("py3-none-any", best, f"cp{number}-abi3-linux_sparc64")]
    offer([Archive.of(wheel) for wheel in wheels])
    clone = onboarded(machine, lock_text(wheels))
    assert next((clone / ".venv").rglob("made_for.txt")).read_text() == best


@pytest.mark.parametrize("json", [True, False])
@pytest.mark.parametrize("ranges", [True, False])
def test_a_download_that_breaks_off_goes_on(machine: Machine, offer: Offer, json: bool, ranges: bool) -> None:
    kit = package(members={"gaugekit/table.bin": os.urandom(3_000_000)})
    registry = offer([Archive.of(kit)], Faults(broken_off=1, json=json, ranges=ranges))
    clone = onboarded(machine, locked(kit))
    assert next((clone / ".venv").rglob("table.bin")).stat().st_size == 3_000_000
    assert registry.faults.asked.count(f"/files/{kit.filename}") == 2


def test_two_clones_at_once_fetch_the_same_archive(machine: Machine, offer: Offer) -> None:
    kit = package(members={"gaugekit/table.bin": os.urandom(3_000_000)})
    offer([Archive.of(kit)], Faults(slow=1.5))
    files = {"requirements.txt": locked(kit), ".python-version": PYTHON_LINE, **MAIN}
    clones = [machine.clone(files, name) for name in ("north", "south")]
    running = [machine.start("onboard", clone, "--until", "dependencies") for clone in clones]
    for process in running:
        out, err = process.communicate(timeout=60)
        assert process.returncode == 0, out + err
    for clone in clones:
        assert next((clone / ".venv").rglob("table.bin")).stat().st_size == 3_000_000
    assert not list(Path(machine.variables["PLAINFALL_CACHE"], "partial").iterdir())


def test_a_folder_of_archives_and_a_file_index_serve_too(machine: Machine, tmp_path: Path) -> None:
    kit, other = package(), package("otherkit")
    folder, index = tmp_path / "folder", tmp_path / "index/otherkit"
    folder.mkdir()
    index.mkdir(parents=True)
    (folder / kit.filename).write_bytes(kit.content)
    (index / other.filename).write_bytes(other.content)
    (index / "index.html").write_text(
        f'<a href="{other.filename}#sha256={other.sha256}">{other.filename}</a>'
    )
    del machine.variables["PIP_NO_INDEX"]
    machine.variables |= {"PIP_FIND_LINKS": str(folder), "PIP_INDEX_URL": index.parent.as_uri()}
    clone = onboarded(machine, locked(kit, other))
    assert len(list((clone / ".venv").rglob("*.dist-info"))) == 2


def test_the_users_configuration_file_is_honoured_and_its_login_used(machine: Machine, offer: Offer) -> None:
    kit = package()
    registry = offer([Archive.of(kit)], Faults(user="Basic bWlyYTpyYWlu"))
    config = machine.home / ".config/pip/pip.conf"
    config.parent.mkdir(parents=True)
    url = registry.url.replace("http://", "http://mira:rain@")
    config.write_text(f"[global]\nindex-url = {url}\n")
    for name in ("PIP_INDEX_URL", "PIP_CONFIG_FILE"):
        del machine.variables[name]
    clone = onboarded(machine, locked(kit))
    written = [p.read_bytes() for p in (clone / ".plainfall").rglob("*") if p.is_file()]
    assert not any(b"mira:rain" in content for content in written)


def test_a_withdrawn_release_is_installed_for_its_pin_and_said(machine: Machine, offer: Offer) -> None:
    kit = package()
    offer([Archive(kit.name, kit.filename, kit.content, yanked="leaks in winter")])
    clone = machine.clone({"requirements.txt": locked(kit), **MAIN})
    run = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert run.status == 0 and "leaks in winter" in run.step("dependencies")["remarks"][0]


def test_a_limit_of_the_users_configuration_is_kept(machine: Machine, offer: Offer, tmp_path: Path) -> None:
    kit = package(version="2.0")
    offer([Archive.of(kit)])
    limits = tmp_path / "limits.txt"
    limits.write_text("gaugekit<2\n")
    machine.variables["PIP_CONSTRAINT"] = str(limits)
    clone = machine.clone({"requirements.txt": locked(kit), **MAIN})
    run = machine.run("onboard", clone)
    assert run.status == 1 and "limits it to <2" in run.err and "$PIP_CONSTRAINT" in run.err


def test_bytecode_is_compiled_behind_the_run_and_shared_by_later_clones(
    machine: Machine, offer: Offer
) -> None:
    kit = package()
    offer([Archive.of(kit)])
    del machine.variables["PYTHONDONTWRITEBYTECODE"]
    first = onboarded(machine, locked(kit), "first")
    name = f"gaugekit/__pycache__/__init__.cpython-{PYTHON_LINE.replace('.', '')}.pyc"
    deadline = time.monotonic() + 20
    while not list((first / ".venv").rglob(name)) and time.monotonic() < deadline:
        time.sleep(0.05)
    machine.variables["PYTHONDONTWRITEBYTECODE"] = "1"
    second = onboarded(machine, locked(kit), "second")
    compiled = [next((clone / ".venv").rglob(name)) for clone in (first, second)]
    assert compiled[0].stat().st_ino == compiled[1].stat().st_ino
    code = "import gaugekit; print(gaugekit.__cached__)"
    done = subprocess.run(
        [second / ".venv/bin/python", "-v", "-c", code], capture_output=True, text=True, check=True
    )
    assert f"matches {compiled[1].parent.parent}/__init__.py" in done.stderr
    (second / "requirements.txt").write_text("")
    run = machine.run("onboard", second, "--until", "dependencies", "--json")
    assert run.step("dependencies")["detail"]["taken_out"] == ["gaugekit 1.0"]
    assert not list((second / ".venv").rglob("gaugekit*"))
