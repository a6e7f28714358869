"""The pool of worker processes is forked while no other thread runs, and ends with the program."""

from __future__ import annotations

import subprocess
import sys
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import SERVER, Machine, locked, package
from node_clones import lock, package_json

from plainfall.standins.node_registry import node_archive
from plainfall.standins.registry import Archive
from plainfall.workers import end_workers, worker_count, worker_pool

# Every fork of Python's own writes how many threads there are.
WATCHED = """\
import os, sys, threading
def watch(event, arguments):
    if event == "os.fork":
        with open(os.environ["FORKS"], "a") as forks:
            print(threading.active_count(), file=forks)
sys.addaudithook(watch)
from plainfall.cli import main
sys.exit(main(sys.argv[1:]))
"""


def test_no_pool_is_made_beside_threads() -> None:
    end_workers()  # what a test before it made
    go = threading.Event()
    other = threading.Thread(target=go.wait)
    other.start()
    try:
        assert worker_pool() is None
    finally:
        go.set()
        other.join()


def test_the_pool_is_one_and_can_be_made_again() -> None:
    script = (
        "import os\nfrom plainfall.workers import *\n"
        "for _ in range(2):\n"
        "    pool = worker_pool()\n"
        "    assert pool is not None and worker_pool() is pool\n"
        "    assert pool.submit(worker_pool).result() is None\n"  # a worker has none of its own
        "    assert pool.submit(os.getpid).result() != os.getpid()\n"
        "    end_workers()\n"
    )
    assert worker_count() < 2 or subprocess.run([sys.executable, "-c", script], timeout=60).returncode == 0
    end_workers()  # there is none here: nothing happens


@pytest.mark.skipif(worker_count() < 2, reason="one processor")
@pytest.mark.needs("node")
def test_nothing_is_forked_beside_threads_when_parts_are_installed_at_once(
    machine: Machine, offer: Callable[..., Any], node_registry: Any, tmp_path: Path
) -> None:
    kit = package()
    offer([Archive.of(kit)])
    bells = [node_archive(f"bell-{number}", "1.0.0") for number in range(60)]
    node_registry(bells)
    clone = machine.clone(
        {
            "requirements.txt": locked(kit),
            "app.py": SERVER,
            **{
                f"{part}/{name}": text
                for part in ("page", "tools")
                for name, text in (
                    ("package.json", package_json(bells)),
                    ("package-lock.json", lock(bells)),
                )
            },
        }
    )
    forks = tmp_path / "forks"
    run = subprocess.run(
        [sys.executable, "-c", WATCHED, "onboard", str(clone), "--until", "dependencies"],
        env={**machine.variables, "FORKS": str(forks)},
        capture_output=True,
        text=True,
        timeout=90,
    )
    assert run.returncode == 0, run.stderr
    assert forks.read_text().split() == ["1"] * worker_count()
    for part in ("page", "tools"):
        assert len(list((clone / part / "node_modules").glob("bell-*"))) == 60


def test_an_interrupt_while_a_process_is_started_comes_when_it_is_noted() -> None:
    script = (
        "import os, signal, subprocess, sys\n"
        "from plainfall import processes\n"
        "from plainfall.cli.ending import ending_by_signals\n"
        "real = subprocess.Popen\n"
        "def slow(*words, **options):\n"
        "    made = real(*words, **options)\n"
        "    os.kill(os.getpid(), signal.SIGTERM)\n"  # between the start and the note
        "    return made\n"
        "subprocess.Popen = slow\n"
        "with ending_by_signals():\n"
        "    try:\n"
        "        processes.start(['sleep', '60'], {'PATH': '/bin:/usr/bin'}, folder='/')\n"
        "    except KeyboardInterrupt:\n"
        "        [pid] = processes.running()\n"
        "        processes.end_all()\n"
        "        print(os.waitpid(pid, 0)[1])\n"
    )
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, timeout=30)
    assert done.stdout == "9\n", done.stderr
