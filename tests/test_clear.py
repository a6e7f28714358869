"""`clear`: what Plainfall made goes, what the person has stays, and a stop at any moment loses nothing."""

from __future__ import annotations

import os
import random
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Machine, Run, listeners, locked, package

from plainfall.standins.registry import Archive, Registry

SETTINGS = "# ours\r\nTOKEN=abc  # no blank\nLAST=1"


def git(clone: Path, *words: str) -> str:
    identity = ["-c", "user.name=Wim Drost", "-c", "user.email=wim@rain.example"]
    done = subprocess.run(
        ["git", *identity, *words],
        cwd=clone,
        capture_output=True,
        text=True,
        check=True,
        env={"PATH": os.environ["PATH"]},
    )
    return done.stdout


def laid_out(folder: Path) -> dict[str, tuple[int, bytes | str]]:
    """Mode and content of all that is in a folder, the repository's own files aside."""
    found: dict[str, tuple[int, bytes | str]] = {}
    for path in sorted(folder.rglob("*")):
        inner = path.relative_to(folder)
        if inner.parts[0] != ".git":
            content = os.readlink(path) if path.is_symlink() else path.read_bytes() if path.is_file() else b""
            found[str(inner)] = path.lstat().st_mode, content
    return found


def around(clone: Path) -> tuple[str, str]:
    """What git says of the clone, and its local excludes."""
    return git(clone, "status", "--short", "--ignored"), (clone / ".git/info/exclude").read_text()


def rows(run: Run, fate: str) -> dict[str, str]:
    return {row["path"]: row["kind"] for row in run.document[fate]}


@pytest.fixture
def sample(machine: Machine, tmp_path: Path) -> tuple[Path, Path]:
    """The sample clone after its onboarding, and a fresh clone of it."""
    clone, fresh = tmp_path / "sample", tmp_path / "fresh"
    run = machine.run("demo", "--into", clone, "--keep", "--port", "8620", "--json")
    assert run.status == 0, run.err
    git(tmp_path, "clone", "--quiet", str(clone), str(fresh))
    return clone, fresh


@pytest.mark.needs("git")
def test_after_clear_with_data_the_clone_is_as_it_was(machine: Machine, sample: tuple[Path, Path]) -> None:
    clone, fresh = sample
    before = laid_out(clone)
    told = machine.run("clear", clone, "--preview", "--json")
    assert laid_out(clone).keys() == before.keys()
    done = machine.run("clear", clone, "--data", "--json")
    assert done.status == 0, done.err
    assert laid_out(clone) == laid_out(fresh)
    assert around(clone) == around(fresh)
    ports = (8620, 8090, 5150, 3000)
    assert not any(listeners(port) for port in ports) and done.document["ended"]
    assert str(clone) not in (Path(machine.variables["PLAINFALL_STATE"]) / "servers.json").read_text()
    assert {".venv/": "packages", ".env": "settings"}.items() <= rows(told, "goes").items()
    assert rows(told, "stays") == {"var/raingauge.db": "database", ".plainfall/guard": "private data"}
    assert rows(done, "goes").items() >= rows(told, "goes").items()
    again = machine.run("clear", clone)
    assert again.status == 0 and again.out.startswith("nothing of Plainfall's is in ")


@pytest.mark.needs("git")
def test_what_the_person_made_or_changed_stays_and_is_named(
    machine: Machine, sample: tuple[Path, Path]
) -> None:
    clone, _ = sample
    [module] = (clone / ".venv").glob("lib/*/site-packages/gaugeweb/__init__.py")
    time.sleep(0.05)
    with module.open("a") as file:
        file.write("# a breakpoint of mine\n")
    with (clone / "dashboard/.env").open("a") as file:
        file.write("MINE=1\n")
    (clone / "notes").mkdir()
    (clone / "notes/march.txt").write_text("dry\n")
    (clone / "var/mine.db").write_bytes((clone / "var/raingauge.db").read_bytes())
    run = machine.run("clear", clone, "--data", "--json")
    assert run.status == 0
    kept = {"dashboard/.env": "settings", "notes/": "other", "var/mine.db": "other"}
    assert rows(run, "stays") == kept
    inner = module.relative_to(clone).as_posix()
    assert run.document["moved_aside"] == [f"plainfall-kept/{inner}"]
    assert "breakpoint of mine" in (clone / "plainfall-kept" / inner).read_text()
    assert "MINE=1" in (clone / "dashboard/.env").read_text()
    assert (clone / "notes/march.txt").read_text() == "dry\n" and (clone / "var/mine.db").is_file()
    assert not (clone / ".venv").exists() and not (clone / "var/raingauge.db").exists()


CLONE = {
    "main.py": (
        "import os, http.server, gaugekit\n"
        "print(os.environ['TOKEN'], os.environ['PLACE'])\n"
        "http.server.test(http.server.SimpleHTTPRequestHandler, port=int(os.environ['PORT']), bind='127.0.0.1')\n"
    ),
    ".env.example": "TOKEN=change-me\nPLACE=Copper Hill\nSECRET_KEY=\n",
    "migrate.py": (
        "import sqlite3\ndatabase = sqlite3.connect('rain.db')\n"
        "database.execute('CREATE TABLE IF NOT EXISTS readings (mm REAL)')\n"
        "database.execute('INSERT INTO readings VALUES (4.2)')\ndatabase.commit()\n"
    ),
    "README.md": "# Desk\n\n## Set-up\n\n```\npython migrate.py\n```\n\n## Run\n\n```\npython main.py\n```\n",
}


def desk(machine: Machine, offer: Callable[..., Registry], **more: str) -> Path:
    built = package()
    offer([Archive.of(built)])
    return machine.clone({**CLONE, "requirements.txt": locked(built), **more}, name="desk")


def test_a_file_that_was_added_to_gets_its_bytes_mode_and_time_back(
    machine: Machine, offer: Callable[..., Registry]
) -> None:
    clone = desk(
        machine, offer, **{".env": SETTINGS, "own/.venv/keep.txt": "mine", "node_modules/a/x.js": "//"}
    )
    os.chmod(clone / ".env", 0o640)
    os.utime(clone / ".env", (1_700_000_000, 1_700_000_000))
    before = laid_out(clone)
    run = machine.run("onboard", clone, "--until", "migrations", "--json")
    assert run.status == 0 and "PLACE=" in (clone / ".env").read_text()
    done = machine.run("clear", clone, "--data", "--json")
    assert rows(done, "put_back") == {".env": "settings"}
    assert laid_out(clone) == before
    assert (clone / ".env").stat().st_mtime == 1_700_000_000


def test_a_file_that_was_added_to_and_then_edited_is_left(
    machine: Machine, offer: Callable[..., Registry]
) -> None:
    clone = desk(machine, offer, **{".env": SETTINGS})
    assert machine.run("onboard", clone, "--until", "settings").status == 0
    text = (clone / ".env").read_text().replace("LAST=1", "LAST=2")
    (clone / ".env").write_text(text)
    (clone / ".env.example").write_text(CLONE[".env.example"] + "RIVER=Teme\n")
    assert machine.run("onboard", clone, "--until", "settings").status == 0  # adds a key to the edited file
    done = machine.run("clear", clone, "--data")
    assert "stays     settings" in done.out and "it was changed since Plainfall wrote to it" in " ".join(
        done.out.split()
    )
    assert "LAST=2" in (clone / ".env").read_text() and "RIVER=Teme" in (clone / ".env").read_text()


def test_without_data_the_rows_stay_and_the_next_run_goes_on_with_them(
    machine: Machine, offer: Callable[..., Registry]
) -> None:
    clone = desk(machine, offer)
    assert machine.run("onboard", clone, "--until", "migrations").status == 0
    settings = (clone / ".env").read_text()
    with sqlite3.connect(clone / "rain.db") as database:
        database.execute("INSERT INTO readings VALUES (9.9)")
    done = machine.run("clear", clone)
    assert (
        done.status == 0 and "stays     database" in done.out and "goes with: plainfall clear" not in done.out
    )
    assert "the databases go with: plainfall clear" in done.err
    assert sorted(os.listdir(clone)) == sorted([".plainfall", *CLONE, "rain.db", "requirements.txt"])
    run = machine.run("onboard", clone, "--until", "migrations", "--json")
    assert run.states["environment"] == run.states["dependencies"] == "done"
    assert run.states["settings"] == run.states["migrations"] == "kept"
    assert (clone / ".env").read_text() == settings
    with sqlite3.connect(clone / "rain.db") as database:
        assert database.execute("SELECT mm FROM readings").fetchall() == [(4.2,), (9.9,)]


def test_what_was_there_before_or_is_somebody_elses_now_stays(
    machine: Machine, offer: Callable[..., Registry], tmp_path: Path
) -> None:
    clone = desk(machine, offer)
    outside = tmp_path / "outside"
    (outside / "data").mkdir(parents=True)
    (outside / "data/keep.txt").write_text("keep")
    assert machine.run("onboard", clone, "--until", "environment").status == 0
    number = os.lstat(clone / ".venv").st_ino
    shutil.rmtree(clone / ".venv")
    # A link of the person's; with the number that the folder had, where the file system gives it again.
    links = [tmp_path / f"link-{count}" for count in range(300)]
    for link in links:
        link.symlink_to(outside / "data")
    next((one for one in links if os.lstat(one).st_ino == number), links[0]).rename(clone / ".venv")
    assert machine.run("clear", clone).status == 0
    assert (outside / "data/keep.txt").read_text() == "keep"
    assert os.readlink(clone / ".venv") == str(outside / "data")
    (clone / ".venv").unlink()
    assert machine.run("onboard", clone, "--until", "environment").status == 0
    shutil.rmtree(clone / ".venv")
    (clone / ".venv").mkdir()
    (clone / ".venv/mine.txt").write_text("mine")
    done = machine.run("clear", clone, "--json")
    assert rows(done, "stays") == {
        ".venv/": "packages"
    }  # told by its number, or where that was given again, by age
    assert (clone / ".venv/mine.txt").read_text() == "mine"


def test_an_edit_stays_where_no_command_of_the_project_ran(
    machine: Machine, offer: Callable[..., Registry]
) -> None:
    clone = desk(machine, offer)
    assert machine.run("onboard", clone, "--until", "dependencies").status == 0
    [module] = (clone / ".venv").glob("lib/*/site-packages/gaugekit/__init__.py")
    time.sleep(0.05)
    module.write_text("# a breakpoint of mine\n")
    assert machine.run("onboard", clone, "--until", "migrations").status == 0
    done = machine.run("clear", clone, "--json")
    kept = f"plainfall-kept/{module.relative_to(clone).as_posix()}"
    assert done.document["moved_aside"] == [kept]
    assert (clone / kept).read_text() == "# a breakpoint of mine\n"


@pytest.mark.needs("git")
def test_what_came_into_a_folder_of_the_programs_own_after_its_commands_ran_stays(machine: Machine) -> None:
    """Patterns (``tmp/*``) hold for what came while commands of a run were at work, and for nothing later."""
    clone = machine.clone({
        ".gitignore": "tmp/\noutput/\n",
        "requirements.txt": "",
        "migrate.py": "import os\nfor one in ('tmp', 'output'):\n    os.makedirs(one, exist_ok=True)\n"
                      "    open(f'{one}/left.txt', 'w').close()\n",
        "README.md": "# Rain\n\n```sh\npython migrate.py\n```\n",
    })  # fmt: skip
    git(clone, "init", "-q")
    git(clone, "add", ".")
    git(clone, "commit", "-qm", "Start")
    assert machine.run("onboard", clone, "--until", "migrations").status == 0
    assert (clone / "tmp/left.txt").exists()
    time.sleep(0.05)
    for folder in ("tmp", "output"):
        (clone / folder / "letter.txt").write_text("mine")
    done = machine.run("clear", clone)
    assert done.status == 0, done.out + done.err
    for folder in ("tmp", "output"):
        assert (clone / folder / "letter.txt").read_text() == "mine"
    assert not (clone / "tmp/left.txt").exists()


def test_a_folder_that_the_person_emptied_and_filled_stays(
    machine: Machine, offer: Callable[..., Registry]
) -> None:
    clone = desk(machine, offer)
    assert machine.run("onboard", clone, "--until", "environment").status == 0
    for one in (clone / ".venv").iterdir():
        one.unlink() if one.is_symlink() or one.is_file() else shutil.rmtree(one)
    (clone / ".venv/lib").mkdir()
    (clone / ".venv/lib/mine.txt").write_text("mine")
    done = machine.run("clear", clone)
    assert "newer than the last run: it may be yours" in " ".join(done.out.split())
    assert (clone / ".venv/lib/mine.txt").read_text() == "mine"


def test_a_state_folder_that_is_not_ours_is_refused(machine: Machine) -> None:
    clone = machine.clone(
        {".plainfall/state.json": "{}", ".plainfall/journal.jsonl": '{"path": "src"}', "src/a.py": ""}
    )
    done = machine.run("clear", clone, "--data")
    assert done.status == 1 and "was not written by your Plainfall" in " ".join(done.err.split())
    assert (clone / "src/a.py").exists() and (clone / ".plainfall/state.json").exists()


def test_wrong_words(machine: Machine, tmp_path: Path) -> None:
    for words, said in (
        ([str(tmp_path / "nowhere")], "is no folder"),
        (["--all"], "--all is for the package cache"),
        (["--older-than", "3"], "--older-than is for the package cache"),
        (["--cache", "--data"], "which belongs to no clone"),
        (["--cache", "--older-than", "x"], "'x' is no number"),
    ):
        done = machine.run("clear", *words)
        assert done.status == 2 and said in done.err, done.err


def test_the_package_cache_loses_what_no_clone_uses(machine: Machine, offer: Callable[..., Registry]) -> None:
    clone = desk(machine, offer)
    other = machine.clone({"main.py": "", "requirements.txt": locked(package("raincount"))}, name="other")
    offer([Archive.of(package()), Archive.of(package("raincount"))])
    for one in (clone, other):
        assert machine.run("onboard", one, "--until", "dependencies").status == 0
    cache = Path(machine.variables["PLAINFALL_CACHE"])
    assert machine.run("clear", other).status == 0
    fresh = machine.run("clear", "--cache", "--json").document
    [packages] = [one for one in fresh["kinds"] if one["kind"] == "packages"]
    assert (
        packages["count"] == 2 and packages["used"] == 1 and packages["goes"] == 0
    )  # just used: a run may be at it
    told = machine.run("clear", "--cache", "--all", "--preview").out
    assert "2 go" in told and "to take away; nothing was changed" in told
    assert len(list(cache.glob("trees/*/*/manifest.json"))) == 2
    done = machine.run("clear", "--cache", "--all", "--json")
    assert done.status == 0 and done.document["failed"] == []
    assert not list(cache.glob("trees/*/*/manifest.json")) and not list(cache.glob("archives/*/*"))
    assert machine.run("clear", "--cache").out == "the package cache is empty\n"
    assert machine.run("inside", clone, "--", "python", "-c", "import gaugekit").status == 0


def test_a_kill_at_any_moment_leaves_what_the_next_clear_finishes(
    machine: Machine, offer: Callable[..., Registry], tmp_path: Path
) -> None:
    chance = random.Random(17)
    clone = desk(machine, offer, **{"notes.txt": "mine"})
    before = laid_out(clone)
    cut = 0
    for _ in range(6):
        assert machine.run("onboard", clone, "--until", "migrations").status == 0
        (clone / "later.txt").write_text("mine, too")
        process = subprocess.Popen(
            [sys.executable, "-m", "plainfall", "clear", str(clone), "--data"],
            env=machine.variables, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        time.sleep(chance.uniform(0.1, 0.3))
        process.send_signal(signal.SIGKILL)
        cut += process.wait() != 0
        assert (clone / "notes.txt").read_text() == "mine" and (
            clone / "later.txt"
        ).read_text() == "mine, too"
        venv = clone / ".venv"
        assert not venv.exists() or (venv / "pyvenv.cfg").exists()  # whole, or gone
        done = machine.run("clear", clone, "--data")
        assert done.status == 0, done.err
        (clone / "later.txt").unlink()
        assert laid_out(clone) == before
    assert cut


def test_an_environment_of_a_killed_run_goes(machine: Machine) -> None:
    clone = machine.clone({"main.py": "print(4.2)\n"}, name="desk")
    for _ in range(6):
        process = subprocess.Popen(
            [sys.executable, "-m", "plainfall", "onboard", str(clone), "--until", "environment"],
            env=machine.variables, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        until = time.monotonic() + 20
        while not (clone / ".venv").exists() and time.monotonic() < until:
            time.sleep(0.0005)
        process.send_signal(signal.SIGKILL)
        process.wait()
        assert (clone / ".venv").exists()
        done = machine.run("clear", clone)
        assert done.status == 0 and not (clone / ".venv").exists(), done.out
