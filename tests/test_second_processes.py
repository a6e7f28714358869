"""Workers, schedulers and watchers beside a server: found, named, started with ``serve --with``, and ended."""

from __future__ import annotations

import signal
from pathlib import Path

import psutil
import pytest
from conftest import SERVER, Machine, alive, eventually

WORKER = """\
import os, time
print("reading gauges for", os.environ["STATION"], flush=True)
while True:
    time.sleep(1)
"""
FILES = {
    "requirements.txt": "",
    "app.py": SERVER,
    "worker.py": WORKER,
    "beat.py": "print('no gauge is listed')\nraise SystemExit(3)\n",
    ".env.example": "STATION=Fulmar\n",
    "Procfile": "web: python app.py\nworker: python worker.py\nbeat: python beat.py\nshell: python -i app.py\n",
}


def beside(machine: Machine, files: dict[str, str]) -> list[tuple[str, str, str]]:
    run = machine.run("survey", machine.clone(files), "--json")
    (part,) = run.document["parts"]
    places = [(one["name"], one["command"], one["evidence"][0]) for one in part["processes"]]
    return [(name, command, f"{place['path']}:{place['line']}") for name, command, place in places]


def test_process_file_readme_and_compose_file_name_them(machine: Machine) -> None:
    readme = (
        "# Gauges\n\n## Usage\n\n```sh\npython app.py\ncelery -A gauges worker -l info\ncelery -A gauges beat\n"
        "python consumer.py\npython lost/worker.py\nsudo celery -A gauges worker\nnpm run worker\n```\n"
    )
    compose = (
        "services:\n  web:\n    command: python app.py\n  mailer:\n    command: [python, worker.py, scheduler]\n"
        "  other:\n    command: celery -A ${APP} worker\n"
    )
    files = {**FILES, "README.md": readme, "consumer.py": WORKER, "docker-compose.yml": compose}
    del files["Procfile"]
    assert beside(machine, files) == [
        ("worker", "celery -A gauges worker -l info", "README.md:7"),
        ("beat", "celery -A gauges beat", "README.md:8"),
        ("consumer", "python consumer.py", "README.md:9"),
        ("mailer", "python worker.py scheduler", "docker-compose.yml:4"),
    ]


def test_the_process_file_goes_first_and_a_name_counts_once(machine: Machine) -> None:
    more = {"Procfile.dev": "web: python app.py\nworker: python worker.py --reload\n"}
    assert beside(machine, {**FILES, **more}) == [
        ("worker", "python worker.py --reload", "Procfile.dev:2"),
        ("beat", "python beat.py", "Procfile:3"),
    ]


def processes_of(clone: Path, word: str) -> list[psutil.Process]:
    every = psutil.process_iter(["cmdline", "cwd"])
    return [one for one in every if one.info["cwd"] == str(clone) and word in (one.info["cmdline"] or ())]


def test_one_is_started_kept_and_ended_with_the_server(machine: Machine) -> None:
    clone = machine.clone(FILES, "rain gauges")
    first = machine.run("onboard", clone)
    assert f"plainfall serve '{clone}' --with worker" in " ".join(first.err.split())
    run = machine.run("serve", clone, "--background", "--with", "worker")
    assert run.status == 0 and "worker: python worker.py, process" in run.err, run.err
    (worker,) = processes_of(clone, "worker.py")
    assert eventually(lambda: "Fulmar" in (clone / ".plainfall/logs/beside-worker.log").read_text())
    again = machine.run("serve", clone, "--background", "--with", "worker", "--json")
    (one,) = again.document["processes"]
    assert (one["name"], one["command"]) == ("worker", "python worker.py")
    assert one["pid"] in (worker.pid, worker.ppid())
    assert "worker: process" in machine.run("onboard", clone).out
    listed = machine.run("serve", "--list", "--json").document
    assert [(row["name"], row["pid"]) for row in listed["processes"]] == [("worker", one["pid"])]
    assert f"process {one['pid']}: python worker.py" in machine.run("serve", "--list").out
    stopped = machine.run("stop", clone)
    assert "ended worker: " in stopped.out and str(worker.pid) in stopped.out
    assert not alive(worker) and processes_of(clone, "app.py") == []
    assert "no dev server of this clone was running" in machine.run("stop", clone).out


@pytest.mark.parametrize("stays", [False, True])
def test_followed_ones_end_with_the_run_that_started_them(machine: Machine, stays: bool) -> None:
    clone = machine.clone(FILES)
    assert machine.run("onboard", clone).status == 0
    if not stays:
        machine.run("stop", clone)
    run = machine.start("serve", clone, "--with", "worker")
    log = clone / ".plainfall/logs/beside-worker.log"
    assert eventually(lambda: log.exists() and "Fulmar" in log.read_text())
    assert run.stdout is not None
    lines = iter(run.stdout.readline, "")
    assert any("worker │ reading gauges for Fulmar" in " ".join(line.split()) for line in lines)
    run.send_signal(signal.SIGINT)
    rest, _ = run.communicate(timeout=20)
    assert run.returncode == 0 and "worker: ended" in rest, rest
    assert processes_of(clone, "worker.py") == [] and bool(processes_of(clone, "app.py")) is stays


def test_one_whose_server_has_ended_by_itself_is_ended_with_all_others(machine: Machine) -> None:
    clone = machine.clone(FILES)
    assert machine.run("serve", clone, "--background", "--with", "worker").status == 0
    for server in processes_of(clone, "app.py"):
        server.kill()
        server.wait(5)
    assert "worker" in machine.run("serve", "--list").out
    assert "ended worker" in machine.run("stop", "--all").out
    assert processes_of(clone, "worker.py") == [] and "worker" not in machine.run("serve", "--list").out


def test_one_that_ends_at_once_is_said_with_its_last_lines(machine: Machine) -> None:
    clone = machine.clone(FILES)
    run = machine.run("serve", clone, "--background", "--with", "worker", "--with", "beat")
    assert run.status == 1 and "`python beat.py` ended at once, with status 3" in run.err
    assert "no gauge is listed" in run.err and "Procfile:3" in run.err
    assert processes_of(clone, "app.py") == processes_of(clone, "worker.py") == []
    assert machine.run("onboard", clone).status == 0
    assert machine.run("serve", clone, "--with", "worker", "--with", "beat").status == 1
    assert processes_of(clone, "app.py") != [] and processes_of(clone, "worker.py") == []


def test_an_unknown_name_starts_nothing(machine: Machine) -> None:
    clone = machine.clone(FILES)
    run = machine.run("serve", clone, "--with", "mailer")
    assert run.status == 2 and "worker, beat" in run.err and processes_of(clone, "app.py") == []


def test_one_that_makes_the_pages_files_is_started_where_they_are_missing(machine: Machine) -> None:
    page = (
        "import http.server, os\n"
        "http.server.test(http.server.SimpleHTTPRequestHandler, port=int(os.environ['PORT']), bind='127.0.0.1')\n"
    )
    watcher = (
        "import time, pathlib\ntime.sleep(1)\npathlib.Path('rain.css').write_text('body { color: navy }')\n"
        "while True:\n    time.sleep(1)\n"
    )
    files = {
        "requirements.txt": "", "app.py": page, "watch_css.py": watcher, "worker.py": WORKER,
        "index.html": "<title>Rain</title><link rel=stylesheet href=rain.css>",
        "Procfile": "web: python app.py\ncss: python watch_css.py\nworker: python worker.py\n",
    }  # fmt: skip
    clone = machine.clone(files)
    run = machine.run("onboard", clone, "--json")
    assert run.status == 0, run.out
    [remark] = run.step("probe")["remarks"]
    assert "files of the page were missing: css (Procfile:2) was started beside the server" in remark
    assert [one["name"] for one in run.document["processes"]] == ["css"]
    assert set(machine.run("onboard", clone, "--json").states.values()) == {"kept"}
    assert "ended css" in machine.run("stop", clone).out
