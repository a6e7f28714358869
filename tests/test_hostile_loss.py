"""Nothing of the person's is lost: rows, tracked files, settings, edits; and what is ended is really ended."""

from __future__ import annotations

import contextlib
import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import psutil
import pytest
from conftest import PYTHON_LINE, SERVER, Machine, alive, eventually, listeners, locked, package, records
from node_clones import lock, package_json
from test_hostile_state import commit, status

from plainfall.confinement import Confined
from plainfall.standins.node_registry import node_archive
from plainfall.standins.registry import Archive
from plainfall.writing import write_replacing

pytestmark = pytest.mark.hostile
SITE = f".venv/lib/python{PYTHON_LINE}/site-packages"
DROPS = """\
import sqlite3
with sqlite3.connect("gauges.db") as d:
    d.executescript(open("schema.sql").read())
"""
SCHEMA = "DROP TABLE IF EXISTS stations;\nCREATE TABLE stations (name TEXT);\n"
APP = {
    "requirements.txt": "",
    "app.py": SERVER,
    "init_db.py": DROPS,
    "schema.sql": SCHEMA,
    ".env.example": "DATABASE_URL=sqlite:///gauges.db\n",
    "README.md": "## Setup\n\nCreate the database tables:\n\n```sh\npython init_db.py\n```\n",
}


def stations(clone: Path) -> list[str]:
    opened = sqlite3.connect(clone / "gauges.db")
    names = [row[0] for row in opened.execute("SELECT name FROM stations")]
    opened.close()
    return names


def add(clone: Path, name: str) -> None:
    with sqlite3.connect(clone / "gauges.db") as opened:
        opened.execute("INSERT INTO stations VALUES (?)", (name,))
    opened.close()


def test_a_change_of_the_dependency_list_drops_no_table(machine: Machine, offer: Callable[..., Any]) -> None:
    kit = package()
    offer([Archive.of(kit)])
    clone = machine.clone(APP)
    first = machine.run("onboard", clone, "--until", "seeds", "--json")
    assert first.status == 0 and first.states["migrations"] == "done", first.out + first.err
    add(clone, "Upper Mill")
    (clone / "requirements.txt").write_text(locked(kit))
    again = machine.run("onboard", clone, "--until", "seeds", "--json")
    assert again.states["dependencies"] == "done" and again.states["migrations"] == "kept"
    assert stations(clone) == ["Upper Mill"]
    # A schema that changed is named, with the way to run the command again; it does not run by itself.
    (clone / "schema.sql").write_text(SCHEMA + "CREATE TABLE readings (mm);\n")
    changed = machine.run("onboard", clone, "--until", "seeds")
    words = " ".join(changed.err.split())
    assert "changed since" in words and "plainfall inside -- python init_db.py" in words
    assert stations(clone) == ["Upper Mill"]


def test_a_database_that_holds_rows_is_not_made_anew(machine: Machine) -> None:
    clone = machine.clone(APP)
    with sqlite3.connect(clone / "gauges.db") as opened:
        opened.execute("CREATE TABLE stations (name TEXT)")
        opened.execute("INSERT INTO stations VALUES ('Low Weir')")
    opened.close()
    run = machine.run("onboard", clone, "--until", "seeds")
    words = " ".join(run.err.split())
    assert run.status == 0 and "gauges.db holds rows already: stations (1)" in words
    assert stations(clone) == ["Low Weir"]


def test_the_newest_three_copies_of_a_database_are_kept_and_said(machine: Machine) -> None:
    seeds = "import sqlite3\nwith sqlite3.connect('gauges.db') as d:\n    d.execute('INSERT INTO stations VALUES (1)')\n"
    readme = APP["README.md"] + "\n## Seeds\n\n```sh\npython seed.py\n```\n"
    clone = machine.clone({**APP, "seed.py": seeds, "README.md": readme})
    assert machine.run("onboard", clone, "--until", "seeds").status == 0
    for _ in range(4):
        run = machine.run("onboard", clone, "--until", "seeds", "--seed-again")
        assert "is kept in .plainfall/guard/top/copies/" in " ".join(run.err.split())
    copies = sorted((clone / ".plainfall/guard/top/copies").iterdir())
    assert len(copies) == 3 and all(copy.stat().st_mode & 0o077 == 0 for copy in copies)
    opened = sqlite3.connect(copies[-1])
    assert opened.execute("SELECT count(*) FROM stations").fetchone() == (4,)
    opened.close()


SLOW_SEED = """\
import os, sqlite3, time
with sqlite3.connect("gauges.db") as d:
    d.execute("INSERT INTO stations VALUES ('half')")
open("begun", "w").close()
if not os.path.exists("go"):
    time.sleep(60)
"""


def cut_off(machine: Machine, clone: Path) -> list[psutil.Process]:
    """A run that is killed in the middle of the seeds; the processes of the seeds."""
    run = machine.start("onboard", clone, "--until", "seeds")
    assert eventually((clone / "begun").exists)
    found = with_words("seed.py", clone)
    os.kill(run.pid, signal.SIGKILL)
    run.communicate()
    return found


def seeded_clone(machine: Machine) -> Path:
    readme = APP["README.md"] + "\n## Seeds\n\n```sh\npython seed.py\n```\n"
    return machine.clone({**APP, "seed.py": SLOW_SEED, "README.md": readme})


def test_what_a_cut_off_step_left_is_put_back_and_what_it_was_is_kept(machine: Machine) -> None:
    clone = seeded_clone(machine)
    cut_off(machine, clone)
    (clone / "go").touch()
    run = machine.run("onboard", clone, "--until", "seeds")
    words = " ".join(run.err.split())
    assert run.status == 0 and "seeds were cut off in a run before" in words, words
    assert "what it held by then is in .plainfall/guard/top/copies/" in words
    assert stations(clone) == ["half"]  # by the seeds of this run alone
    [kept] = [
        path for path in (clone / ".plainfall/guard/top/copies").iterdir() if "cut-off-seeds" in path.name
    ]
    opened = sqlite3.connect(kept)
    assert opened.execute("SELECT count(*) FROM stations").fetchone() == (1,)
    opened.close()


def test_stop_ends_a_command_that_outlived_its_run(machine: Machine) -> None:
    clone = seeded_clone(machine)
    processes = cut_off(machine, clone)
    assert any(alive(one) for one in processes)
    run = machine.run("stop", clone)
    assert run.status == 0 and "python seed.py" in run.out
    assert eventually(lambda: not any(alive(one) for one in processes), 5)
    assert machine.run("stop", clone).out.startswith("no dev server")


@pytest.mark.needs("git")
def test_a_tracked_settings_file_is_never_written(machine: Machine) -> None:
    files = {
        "requirements.txt": "",
        "app.py": "import os\nKEY = os.environ['SECRET_KEY']\nNET = os.environ['NETWORK']\n" + SERVER,
        ".env": "NETWORK=Lower Valley\n",
        ".env.example": "NETWORK=\nSECRET_KEY=change-me\n",
    }
    clone = machine.clone(files)
    commit(clone)
    run = machine.run("onboard", clone)
    assert run.status == 0, run.err
    assert (clone / ".env").read_text() == "NETWORK=Lower Valley\n" and status(clone) == []
    words = " ".join(run.err.split())
    assert "version control tracks .env, so it is not written" in words
    [local] = (clone / ".plainfall/settings").iterdir()
    assert "SECRET_KEY=" in local.read_text() and local.stat().st_mode & 0o077 == 0
    shown = machine.run("settings", clone)
    assert ".plainfall/settings" in shown.out and "over .env" in shown.out
    again = machine.run("onboard", clone, "--json")
    assert again.states["settings"] == "kept" and again.states["server"] == "kept"
    machine.run("stop", clone)


@pytest.mark.needs("node")
def test_a_local_file_that_the_framework_reads_goes_over_a_tracked_one(
    machine: Machine, node_registry: Any
) -> None:
    vite = node_archive("vite", "5.0.0", {"cli.js": "#!/usr/bin/env node\n"}, bin={"vite": "cli.js"})
    node_registry([vite])
    clone = machine.clone(
        {
            "package.json": package_json([vite], scripts={"dev": "vite"}),
            "package-lock.json": lock([vite]),
            "vite.config.js": "export default {};\n",
            "src/main.js": "console.log(import.meta.env.VITE_NETWORK, import.meta.env.VITE_KEY);\n",
            ".env": "VITE_NETWORK=Lower Valley\n",
            ".env.example": "VITE_NETWORK=\nVITE_KEY=plain\n",
        }
    )
    commit(clone)
    run = machine.run("onboard", clone, "--until", "settings")
    assert run.status == 0, run.err
    assert (clone / ".env").read_text() == "VITE_NETWORK=Lower Valley\n"
    assert "VITE_KEY=plain" in (clone / ".env.local").read_text()
    assert status(clone) == []


@pytest.mark.needs("git")
def test_tracked_files_that_the_projects_own_code_changes_are_named(machine: Machine) -> None:
    clone = machine.clone(
        {
            "requirements.txt": "",
            "app.py": SERVER,
            "notes.txt": "mine\n",
            "seed.py": "open('notes.txt', 'a').write('more\\n')\nopen('new.txt', 'w').write('x')\n",
            "README.md": "## Seeds\n\n```sh\npython seed.py\n```\n",
        }
    )
    commit(clone)
    run = machine.run("onboard", clone, "--until", "seeds")
    words = " ".join(run.err.split())
    assert "the project's own commands changed tracked files: notes.txt" in words
    assert "new files that version control does not ignore: new.txt" in words


def test_a_given_value_goes_only_to_the_part_that_has_the_key(machine: Machine) -> None:
    clone = machine.clone(
        {
            "api/requirements.txt": "",
            "api/app.py": "import os\nos.environ['SENDER']\n",
            "api/.env.example": "SENDER=\n",
            "jobs/requirements.txt": "",
            "jobs/app.py": "",
            "jobs/.env.example": "OTHER=1\n",
        }
    )
    run = machine.run("onboard", clone, "--until", "settings", "--set", "SENDER=gauges@rain.example")
    assert run.status == 0, run.err
    assert "SENDER=" in (clone / "api/.env").read_text()
    assert "SENDER" not in (clone / "jobs/.env").read_text()


def two_clones(machine: Machine, offer: Callable[..., Any]) -> tuple[Path, Path]:
    kit = package()
    offer([Archive.of(kit)])
    clones = [machine.clone({"requirements.txt": locked(kit), "app.py": ""}, name) for name in ("one", "two")]
    for clone in clones:
        assert machine.run("onboard", clone, "--until", "dependencies").status == 0
    time.sleep(0.05)
    return clones[0], clones[1]


def test_an_edit_through_a_link_is_undone_in_every_clone_and_kept(
    machine: Machine, offer: Callable[..., Any]
) -> None:
    one, two = two_clones(machine, offer)
    with open(one / SITE / "gaugekit/__init__.py", "a") as file:
        file.write("print('looking for a fault')\n")
    assert "looking" in (two / SITE / "gaugekit/__init__.py").read_text()  # the same file
    run = machine.run("onboard", two, "--until", "dependencies")
    words = " ".join(run.err.split())
    assert run.status == 0 and "shared with other clones through links" in words and "~/one/.venv" in words
    for clone in (one, two):
        assert (clone / SITE / "gaugekit/__init__.py").read_text() == "VERSION = '1.0'\n"
    kept = two / ".plainfall/edited" / SITE / "gaugekit/__init__.py"
    assert "looking" in kept.read_text()
    quiet = machine.run("onboard", two, "--until", "dependencies", "--json")
    assert quiet.states["dependencies"] == "kept"


def test_an_edit_in_the_only_clone_stays(machine: Machine, offer: Callable[..., Any]) -> None:
    one, two = two_clones(machine, offer)
    shutil.rmtree(two)
    with open(one / SITE / "gaugekit/__init__.py", "a") as file:
        file.write("print('looking for a fault')\n")
    run = machine.run("onboard", one, "--until", "dependencies")
    assert run.status == 0 and "this clone's own copies" in " ".join(run.err.split())
    assert "looking" in (one / SITE / "gaugekit/__init__.py").read_text()
    third = machine.clone({"requirements.txt": (one / "requirements.txt").read_text(), "app.py": ""}, "third")
    assert machine.run("onboard", third, "--until", "dependencies").status == 0
    assert "looking" not in (third / SITE / "gaugekit/__init__.py").read_text()


@pytest.mark.parametrize(
    "write",
    [write_replacing, lambda path, text: Confined(path.parent).write(path.name, text)],
    ids=["plain", "confined"],
)
def test_an_interrupt_just_after_a_files_move_stays_an_interrupt(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, write: Callable[[Path, str], None]
) -> None:
    move = os.replace

    def interrupted(*places: Any, **folders: Any) -> None:
        move(*places, **folders)
        raise KeyboardInterrupt

    monkeypatch.setattr(os, "replace", interrupted)
    with pytest.raises(KeyboardInterrupt):
        write(tmp_path / "readings.json", "12 mm")
    assert [path.read_text() for path in tmp_path.iterdir()] == ["12 mm"]


def test_an_interpreter_that_was_interrupted_is_asked_again(machine: Machine) -> None:
    place = machine.home / ".rain/versions/3.99/bin"
    place.mkdir(parents=True)
    slow = place / "python3.99"
    slow.write_text(
        f'#!/bin/sh\nif [ ! -e {machine.home}/ready ]; then touch {machine.home}/asked; sleep 30; fi\nexec {sys.executable} "$@"\n'
    )
    slow.chmod(0o755)
    clone = machine.clone({"app.py": "", "requirements.txt": ""})
    first = machine.start("onboard", clone, "--until", "runtime")
    deadline = time.monotonic() + 10
    while not (machine.home / "asked").exists() and time.monotonic() < deadline:
        time.sleep(0.02)
    first.send_signal(signal.SIGINT)
    begin = time.monotonic()
    first.communicate(timeout=15)
    assert first.returncode == 130 and time.monotonic() - begin < 6
    (machine.home / "ready").touch()
    run = machine.run("onboard", clone, "--until", "runtime", "--runtime", slow, "--json")
    assert run.status == 0, run.out
    assert "broken" not in "".join(
        path.read_text() for path in machine.home.parent.rglob("interpreters/*.json")
    )


@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGHUP, signal.SIGINT])
def test_a_signal_ends_a_run_though_a_thread_waits(machine: Machine, number: int) -> None:
    """The second part's packages come from a registry that never answers."""
    import socket

    with socket.socket() as mute:
        mute.bind(("127.0.0.1", 0))
        mute.listen()
        index = f"http://127.0.0.1:{mute.getsockname()[1]}/simple/"
        clone = machine.clone(
            {
                "a/requirements.txt": "",
                "a/app.py": "",
                "a/seed.py": "import time\nopen('begun', 'w').close()\ntime.sleep(60)\n",
                "a/README.md": "## Seeds\n\n```sh\npython seed.py\n```\n",
                "b/requirements.txt": f"--index-url {index}\ngaugekit\n",
                "b/app.py": "",
            }
        )
        run = machine.start("onboard", clone)
        deadline = time.monotonic() + 20
        while not (clone / "a/begun").exists() and time.monotonic() < deadline:
            time.sleep(0.02)
        begin = time.monotonic()
        run.send_signal(number)
        run.communicate(timeout=20)
        assert run.returncode == 130 and time.monotonic() - begin < 6
    assert eventually(lambda: with_words("seed.py", clone) == [], 5)


def test_a_hang_up_ends_the_demo_with_all_of_its_processes(machine: Machine) -> None:
    run = machine.start("demo")
    family: list[psutil.Process] = []

    def server_is_up() -> bool:
        family[:] = psutil.Process(run.pid).children(recursive=True)
        return len(family) >= 2

    assert eventually(server_is_up)
    run.send_signal(signal.SIGHUP)
    run.communicate(timeout=30)
    assert eventually(lambda: not any(alive(one) for one in family), 5)


def with_words(words: str, folder: Path) -> list[psutil.Process]:
    found = []
    for one in psutil.process_iter():
        with contextlib.suppress(psutil.Error):  # it ended meanwhile
            if words in " ".join(one.cmdline()) and Path(one.cwd()).is_relative_to(folder.resolve()):
                found.append(one)
    return found


HIDES = """\
import os, sys, time
with open("groups", "a") as groups:
    groups.write(open("/proc/self/cgroup").read())
if os.fork() == 0:
    os.setsid()
    if os.fork() == 0:
        env = {"PATH": os.environ["PATH"]}
        os.execve(sys.executable, [sys.executable, "-c", "import time; time.sleep(87.6)"], env)
    os._exit(0)
"""


def hidden(folder: Path) -> list[psutil.Process]:
    return with_words("time.sleep(87.6)", folder)


def groups_left(clone: Path) -> list[Path]:
    """Control groups in which code of the clone ran, and that are still there."""
    names = {line.strip().rpartition("/")[2] for line in (clone / "groups").read_text().splitlines()}
    ours = [name for name in names if name.startswith("plainfall-")]
    return [found for name in ours for found in Path("/sys/fs/cgroup").glob(f"**/{name}")]


@pytest.mark.parametrize("who", ["server", "seeds"])
def test_a_process_that_hides_is_ended_all_the_same(machine: Machine, who: str) -> None:
    files = {"requirements.txt": "", "app.py": SERVER}
    if who == "server":
        files["app.py"] = HIDES + SERVER
    else:
        files |= {"seed.py": HIDES, "README.md": "## Seeds\n\n```sh\npython seed.py\n```\n"}
    clone = machine.clone(files)
    run = machine.run("onboard", clone)
    assert run.status == 0, run.err
    if who == "seeds":
        assert hidden(clone) == [] and "terminated 1 process left running by `python seed.py`" in " ".join(
            run.err.split()
        )
    else:
        assert len(hidden(clone)) == 1
    stopped = machine.run("stop", clone)
    assert stopped.status == 0 and hidden(clone) == []
    assert eventually(lambda: groups_left(clone) == [], 5)


def test_a_servers_log_is_cut_to_its_first_and_last_part(tmp_path: Path) -> None:
    from plainfall.server.logs import FIRST, LAST, cut_log

    log = tmp_path / "server.log"
    with open(log, "wb") as file:
        for number in range(3_000_000):
            file.write(b"reading %08d\n" % number)
    size = cut_log(log)
    assert size is not None and size == log.stat().st_size <= FIRST + LAST + 200
    lines = log.read_bytes().splitlines()
    assert lines[0] == b"reading 00000000" and lines[-1] == b"reading 02999999"
    assert sum(line.endswith(b"left out here by Plainfall]") for line in lines) == 1
    assert all(line.startswith((b"reading ", b"[")) for line in lines)
    assert cut_log(log) is None
    link = tmp_path / "link.log"
    link.symlink_to(log)
    assert cut_log(link) is None


def test_the_log_of_a_server_that_writes_without_end_is_cut_while_it_is_followed(machine: Machine) -> None:
    noisy = SERVER.replace(
        "HTTPServer((",
        "import threading\nthreading.Thread(target=lambda: [print('x' * 200) for _ in range(400000)], daemon=True).start()\nHTTPServer((",
    )
    clone = machine.clone({"requirements.txt": "", "app.py": noisy})
    run = machine.start("serve", clone, "--quiet")
    log = clone / ".plainfall/logs/server.log"
    sizes = [0]

    def was_cut() -> bool:
        sizes.append(log.stat().st_size if log.exists() else 0)
        return sizes[-1] < sizes[-2]

    assert eventually(was_cut, 40)
    run.send_signal(signal.SIGINT)
    run.communicate(timeout=20)
    assert sizes[-1] < 27 * 1024**2


def test_the_register_of_servers_is_the_users_alone(machine: Machine) -> None:
    clone = machine.clone({"requirements.txt": "", "app.py": SERVER})
    machine.run("onboard", clone)
    state = Path(machine.variables["PLAINFALL_STATE"])
    for name in ("servers.json", "key"):
        assert (state / name).stat().st_mode & 0o777 == 0o600
    assert listeners(records(clone)["servers"][""]["port"])
    assert subprocess.run(["true"], check=True)
