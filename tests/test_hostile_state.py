"""What a clone brings along of Plainfall's own (records, marks, notes, links) counts for nothing, and nothing outside
of the clone is written, replaced or removed, whatever paths and links the clone holds."""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
import subprocess
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import SERVER, Machine, listeners, locked, package, records
from hostile import Outside, outside
from node_clones import lock, package_json

from plainfall.standins.node_registry import node_archive
from plainfall.standins.registry import Archive

__all__ = ["outside"]
pytestmark = pytest.mark.hostile
MAIN = {"requirements.txt": "", "app.py": SERVER}
GOOD = node_archive("good", "1.0.0")


def node_clone(machine: Machine, places: dict[str, str], more: dict[str, Any], **files: str) -> Path:
    text = lock([GOOD], places, more)
    return machine.clone({"package.json": package_json([GOOD]), "package-lock.json": text, **files})


def commit(clone: Path, *paths: str) -> None:
    git = ["git", "-C", str(clone), "-c", "user.name=Orrin", "-c", "user.email=orrin@rain.example"]
    subprocess.run([*git, "init", "-q"], check=True)
    subprocess.run([*git, "add", "-f", *(paths or ["."])], check=True)
    subprocess.run([*git, "commit", "-qm", "readings"], check=True)


def status(clone: Path) -> list[str]:
    done = subprocess.run(
        ["git", "-C", str(clone), "status", "--porcelain", "--untracked-files=all"],
        capture_output=True,
        text=True,
        check=True,
    )
    return done.stdout.splitlines()


@pytest.mark.needs("git", "node")
def test_a_mark_that_names_a_sibling_folder_deletes_nothing(
    machine: Machine, node_registry: Any, outside: Outside
) -> None:
    node_registry([GOOD])
    clone = node_clone(machine, {}, {})
    (clone / "node_modules").mkdir()
    places = {"../outside": "x", "../outside/letters": "y", "node_modules/../../outside/good": "z"}
    content = {"version": 2, "complete": True, "places": places, "unfinished": []}
    for mark in (
        content,
        {"about": [str(clone), 0, 0], "name": "node_modules of .", "content": content, "seal": "0"},
    ):
        (clone / "node_modules/.plainfall.json").write_text(json.dumps(mark))
        run = machine.run("onboard", clone, "--until", "dependencies")
        assert run.status == 1 and "was not made by Plainfall" in " ".join(run.err.split())


@pytest.mark.parametrize("there", [True, False])
def test_a_note_of_a_step_under_way_undoes_nothing(machine: Machine, outside: Outside, there: bool) -> None:
    note = {
        "step": "seeds",
        "database": str(outside.database),
        "there": there,
        "copy": None,
        "mark": "0" * 16,
    }
    clone = machine.clone(
        {**MAIN, "seed.py": "print('seeds')\n", "README.md": "## Setup\n\n```sh\npython seed.py\n```\n"}
    )
    for name in ("top", "guard"):
        guard = clone / ".plainfall/guard" / name
        guard.mkdir(parents=True)
        (guard / "under-way.json").write_text(json.dumps(note))
        sqlite3.connect(guard / "before.db").close()
    run = machine.run("onboard", clone, "--until", "seeds")
    assert run.status == 0, run.err
    assert "was not written by your Plainfall" in " ".join(run.err.split())
    assert (clone / ".plainfall-not-ours-1/guard/top/under-way.json").is_file()


@pytest.mark.parametrize("name", ["lock", "journal.jsonl", "logs/server.log", "state.json", "logs", "guard"])
def test_links_inside_the_state_folder_are_not_followed(
    machine: Machine, outside: Outside, name: str
) -> None:
    clone = machine.clone(MAIN)
    link = clone / ".plainfall" / name
    link.parent.mkdir(parents=True, exist_ok=True)
    link.symlink_to(outside.folder if "." not in name else outside.folder / "readings.log")
    run = machine.run("onboard", clone)
    assert run.status == 0, run.err
    machine.run("stop", clone)


@pytest.mark.parametrize("name", ["lock", "journal.jsonl", "logs/server.log"])
def test_links_that_appear_in_a_state_folder_of_ours_are_refused(
    machine: Machine, outside: Outside, name: str
) -> None:
    clone = machine.clone(MAIN)
    assert machine.run("onboard", clone).status == 0
    machine.run("stop", clone)
    link = clone / ".plainfall" / name
    link.unlink()
    link.symlink_to(outside.folder / "readings.log")
    run = machine.run("onboard", clone)
    assert run.status == 1 and "it is a link or a named pipe" in " ".join(run.err.split())
    assert "Traceback" not in run.err


def test_a_state_folder_that_is_a_link_is_refused(machine: Machine, outside: Outside) -> None:
    clone = machine.clone(MAIN)
    (clone / ".plainfall").symlink_to(outside.folder)
    run = machine.run("onboard", clone)
    assert run.status == 1 and "it is a link" in run.err and ".plainfall" in run.err


@pytest.mark.needs("git")
def test_a_tracked_state_folder_is_refused(machine: Machine) -> None:
    clone = machine.clone({**MAIN, ".plainfall/state.json": "{}"})
    commit(clone)
    run = machine.run("onboard", clone)
    assert run.status == 1 and "the repository tracks it" in run.err
    assert (clone / ".plainfall/state.json").read_text() == "{}" and status(clone) == []


@pytest.mark.parametrize(
    "place", ["out/node_modules/good", "out/node_modules/@rain/good", "node_modules/good/../../out"]
)
@pytest.mark.needs("git", "node")
def test_a_place_in_a_lock_behind_a_link_leads_nowhere(
    machine: Machine, node_registry: Any, outside: Outside, place: str
) -> None:
    node_registry([GOOD])
    clone = node_clone(machine, {"good@1.0.0": place}, {})
    (clone / "out").symlink_to(outside.folder)
    run = machine.run("onboard", clone, "--until", "dependencies")
    assert run.status == 1 and "Traceback" not in run.err
    assert "leads out of the clone" in " ".join(run.err.split()) or "outside its folder" in " ".join(
        run.err.split()
    )


@pytest.mark.needs("git", "node")
def test_a_package_within_a_linked_one_leads_nowhere(
    machine: Machine, node_registry: Any, outside: Outside
) -> None:
    node_registry([GOOD])
    link = {"node_modules/friend": {"resolved": "../outside", "link": True}}
    clone = node_clone(machine, {"good@1.0.0": "node_modules/friend/node_modules/good"}, link)
    run = machine.run("onboard", clone, "--until", "dependencies")
    assert run.status == 1 and "within node_modules/friend, which is a link" in " ".join(run.err.split())


@pytest.mark.needs("git", "node")
def test_a_stranger_packages_in_a_workspace_are_left(machine: Machine, node_registry: Any) -> None:
    node_registry([GOOD])
    clone = node_clone(
        machine,
        {"good@1.0.0": "page/node_modules/good"},
        {},
        **{"page/node_modules/mine/index.js": "// mine\n"},
    )
    run = machine.run("onboard", clone, "--until", "dependencies")
    assert run.status == 1 and "was not made by Plainfall" in " ".join(run.err.split())
    assert (clone / "page/node_modules/mine/index.js").is_file()


def test_an_environment_that_is_a_link_is_left_alone(
    machine: Machine, offer: Callable[..., Any], outside: Outside
) -> None:
    kit = package()
    offer([Archive.of(kit)])
    own = machine.clone({"requirements.txt": "", "app.py": ""}, "own")
    assert machine.run("onboard", own, "--until", "environment").status == 0
    before = sorted(path.name for path in (own / ".venv").rglob("*"))
    clone = machine.clone({"requirements.txt": locked(kit), "app.py": ""})
    (clone / ".venv").symlink_to(own / ".venv")
    run = machine.run("onboard", clone, "--until", "dependencies")
    assert run.status == 1 and "it is a link" in " ".join(run.err.split())
    assert sorted(path.name for path in (own / ".venv").rglob("*")) == before


@pytest.mark.parametrize(
    "inner", ["lib/python{line}/site-packages", "bin", "lib", "lib/python{line}/site-packages/gaugekit"]
)
def test_links_inside_an_environment_are_not_followed(
    machine: Machine, offer: Callable[..., Any], outside: Outside, inner: str
) -> None:
    from conftest import PYTHON_LINE

    kit = package(scripts={"gauge": "gaugekit:main"})
    offer([Archive.of(kit)])
    clone = machine.clone({"requirements.txt": locked(kit), "app.py": ""})
    assert machine.run("onboard", clone, "--until", "environment").status == 0
    place = clone / ".venv" / inner.format(line=PYTHON_LINE)
    if place.is_dir():
        shutil.move(place, clone / "aside")
    target = outside.folder
    if inner == "lib":
        target = outside.folder / "letters"
    place.symlink_to(target)
    run = machine.run("onboard", clone, "--until", "dependencies")
    # Without its own interpreter it is made again, in the stead of the link.
    assert "Traceback" not in run.err and run.status == (0 if inner == "bin" else 1), run.out + run.err


def test_a_settings_file_that_is_a_link_out_of_the_clone_is_said(machine: Machine, outside: Outside) -> None:
    clone = machine.clone({**MAIN, ".env.example": "NETWORK=Lower Valley\n"})
    (clone / ".env").symlink_to(outside.folder / "readings.log")
    run = machine.run("onboard", clone, "--until", "settings")
    assert run.status == 1 and ".env" in run.err and "out of the clone" in " ".join(run.err.split())
    (clone / ".env").unlink()
    (clone / ".env").symlink_to(outside.folder / "new.env")
    again = machine.run("onboard", clone, "--until", "settings")
    assert again.status == 1 and "out of the clone" in " ".join(again.err.split())


def test_a_settings_file_that_is_a_link_inside_is_followed(machine: Machine) -> None:
    clone = machine.clone({**MAIN, ".env.example": "NETWORK=Lower Valley\n", "conf/real.env": "OTHER=1\n"})
    (clone / ".env").symlink_to("conf/real.env")
    assert machine.run("onboard", clone, "--until", "settings").status == 0
    assert (clone / ".env").is_symlink() and "NETWORK=" in (clone / "conf/real.env").read_text()


def test_a_settings_file_that_is_a_named_pipe_is_said(machine: Machine) -> None:
    clone = machine.clone({**MAIN, ".env.example": "NETWORK=Lower Valley\n"})
    os.mkfifo(clone / ".env")
    run = machine.run("onboard", clone, "--until", "settings", timeout=20)
    assert run.status == 1 and "named pipe" in run.err
    assert (clone / ".env").is_fifo()


def test_excludes_go_only_into_a_repository_that_points_back(machine: Machine, outside: Outside) -> None:
    (outside.folder / "letters").chmod(0o755)
    clone = machine.clone({**MAIN, ".git": "gitdir: ../outside/letters\n"})
    assert machine.run("onboard", clone, "--until", "environment").status == 0
    linked = machine.clone(MAIN, "linked")
    (linked / ".git").symlink_to(outside.folder)
    assert machine.run("onboard", linked, "--until", "environment").status == 0


SEEDED = {
    "requirements.txt": "",
    "app.py": SERVER,
    ".env.example": "PORT=8730\nDATABASE_URL=sqlite:///gauges.db\n",
    "seed.py": "import sqlite3\nwith sqlite3.connect('gauges.db') as d:\n"
    "    d.execute('CREATE TABLE IF NOT EXISTS readings (mm)')\n    d.execute('INSERT INTO readings VALUES (3)')\n",
    "README.md": "## Setup\n\n```sh\npython seed.py\n```\n",
}


@pytest.mark.parametrize("how", ["copied", "moved"])
def test_a_copied_or_moved_clone_is_a_new_one(machine: Machine, how: str) -> None:
    clone = machine.clone(SEEDED, "first")
    assert machine.run("onboard", clone).status == 0
    server = records(clone)["servers"][""]
    other = machine.home / "second"
    if how == "copied":
        shutil.copytree(clone, other, symlinks=True)
    else:
        clone.rename(other)
    run = machine.run("onboard", other, "--json")
    assert run.status == 0, run.out + run.err
    assert any("copied or moved from" in remark for remark in run.document["remarks"])
    [mine] = run.document["servers"]
    # The first one's server goes on, and has its port.
    assert server["pid"] in listeners(server["port"]) or any(
        pid in listeners(server["port"]) for pid, _ in server["others"]
    )
    assert mine["port"] != server["port"] and mine["pid"] != server["pid"]
    assert f"PORT={mine['port']}" in (other / ".env").read_text()
    assert run.states["seeds"] == "kept"
    with sqlite3.connect(other / "gauges.db") as opened:
        assert opened.execute("SELECT count(*) FROM readings").fetchone() == (1,)
    opened.close()
    # Its environment is its own: commands name the new place.
    assert str(other) in (other / ".venv/pyvenv.cfg").read_text()
    machine.run("stop", other)
    assert listeners(server["port"])
    machine.run("stop", "--all")
    assert not listeners(server["port"])


def test_what_another_user_sealed_does_not_count(machine: Machine) -> None:
    clone = machine.clone(SEEDED)
    assert machine.run("onboard", clone, "--until", "seeds").status == 0
    machine.variables["PLAINFALL_STATE"] = str(machine.home / "another")
    run = machine.run("onboard", clone, "--until", "environment")
    assert "was not written by your Plainfall" in " ".join(run.err.split())


@pytest.mark.needs("git")
def test_nothing_shows_in_git_status_in_a_subfolder_of_a_repository(machine: Machine) -> None:
    top = machine.clone({f"gauges [a]/{path}": text for path, text in SEEDED.items()}, "mono")
    commit(top)
    run = machine.run("onboard", top / "gauges [a]")
    assert run.status == 0, run.err
    subprocess.run(
        ["python3", "-c", "import py_compile; py_compile.compile('app.py')"],
        cwd=top / "gauges [a]",
        check=True,
    )
    assert status(top) == []
    machine.run("stop", top / "gauges [a]")
