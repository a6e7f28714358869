"""The demo: the sample clone goes through the whole job, and leaves nothing behind."""

from __future__ import annotations

import os
import shutil
import signal
import sqlite3
import subprocess
import time
from pathlib import Path

import psutil
import pytest
from conftest import Machine, listeners, records, resealed
from ruby_clones import HAS_RUBY

PHP = shutil.which("php")
HAS_BULLETIN = (
    bool(PHP) and "pdo_sqlite" in subprocess.run([str(PHP), "-m"], capture_output=True, text=True).stdout
)
TITLES = {
    "": "Rain gauge readings",
    "dashboard": "Rain gauge dashboard",
    **({"bulletin": "The wettest days"} if HAS_BULLETIN else {}),
    **({"notebook": "Notes of the readers"} if HAS_RUBY else {}),
}


@pytest.fixture
def kept(machine: Machine, tmp_path: Path) -> Path:
    clone = tmp_path / "sample"
    run = machine.run("demo", "--into", clone, "--keep", "--port", "8610", "--json")
    assert run.status == 0, run.err
    return clone


def rows(clone: Path, table: str) -> int:
    with sqlite3.connect(clone / "var/raingauge.db") as database:
        return int(database.execute(f"SELECT COUNT(*) FROM {table}").fetchone()[0])


@pytest.mark.needs("node")
def test_the_demo_ends_with_a_good_page_and_no_process(machine: Machine) -> None:
    run = machine.run("demo", "--json", "--port", "8600")
    assert run.status == 0, run.err
    assert run.document["outcome"] == "done"
    titles = {server["part"]: server["probe"]["title"] for server in run.document["servers"]}
    assert titles == TITLES
    for server in run.document["servers"]:
        assert server["probe"]["status"] == 200 and (
            server["probe"]["assets"] or server["part"] in ("bulletin", "notebook")
        )
        assert {asset["status"] for asset in server["probe"]["assets"]} <= {200}
        assert not psutil.pid_exists(server["pid"])
        assert listeners(server["port"]) == []
    assert not Path(run.document["clone"]).exists()


@pytest.mark.needs("node")
def test_all_stages_are_done_in_order_with_evidence(machine: Machine) -> None:
    every = machine.run("demo", "--json", "--port", "8605").document["steps"]
    assert {step["part"] for step in every} == {*TITLES}
    steps = [step for step in every if step["part"] == ""]
    assert [step["stage"] for step in steps] == [
        "runtime",
        "environment",
        "dependencies",
        "settings",
        "migrations",
        "seeds",
        "server",
        "probe",
    ]
    assert {step["state"] for step in steps} == {"done"}
    places = {step["stage"]: [place["path"] for place in step["evidence"]] for step in steps}
    assert places["migrations"] == ["Procfile"] and places["seeds"] == ["README.md"]


@pytest.mark.needs("git")
def test_nothing_of_the_sample_is_changed_for_version_control(kept: Path) -> None:
    done = subprocess.run(["git", "status", "--short"], cwd=kept, capture_output=True, text=True, check=True)
    assert done.stdout == ""


def test_a_second_run_keeps_every_step_and_runs_no_project_code(machine: Machine, kept: Path) -> None:
    asked_before = (kept / ".plainfall/logs/server.log").read_text()
    run = machine.run("onboard", kept, "--port", "8610", "--json")
    assert set(run.states.values()) == {"kept"}, run.states
    assert (kept / ".plainfall/logs/server.log").read_text() == asked_before
    assert rows(kept, "stations") == 4


def test_a_changed_lock_redoes_dependencies_and_what_follows(machine: Machine, kept: Path) -> None:
    lock = kept / "requirements.txt"
    text = lock.read_text()
    start = text.index("stationnames==")
    lock.write_text(text[:start])  # stationnames and tallysteps come last in the list
    run = machine.run("onboard", kept, "--port", "8610", "--json")
    assert run.step("dependencies")["detail"]["taken_out"] == ["stationnames 3.0", "tallysteps 2.1.0"]
    assert run.states["runtime"] == run.states["environment"] == run.states["settings"] == "kept"
    # Nobody knows what this command does to the rows: a change of the dependency list does not run it again.
    assert run.states["migrations"] == run.states["seeds"] == "kept"
    assert not (kept / ".venv/bin/tallysteps").exists()
    assert rows(kept, "readings") == 56


def test_seeds_run_once_for_a_database_and_again_for_a_new_one(machine: Machine, kept: Path) -> None:
    assert machine.run("onboard", kept, "--json", "--port", "8610").states["seeds"] == "kept"
    again = machine.run("onboard", kept, "--seed-again", "--json", "--port", "8610")
    assert again.states["seeds"] == "failed"
    assert "there already" in again.document["failure"]["cause"]
    assert rows(kept, "readings") == 56
    (kept / "var/raingauge.db").unlink()
    anew = machine.run("onboard", kept, "--json", "--port", "8610")
    assert anew.states["migrations"] == anew.states["seeds"] == "done"
    assert rows(kept, "stations") == 4


def test_stop_ends_the_whole_group_and_frees_the_port(machine: Machine, kept: Path) -> None:
    assert len(listeners(8610)) == 1
    run = machine.run("stop", kept)
    assert run.status == 0 and "port 8610 is free" in run.out
    assert listeners(8610) == []
    assert machine.run("probe", kept).status == 1


def test_probe_asks_again_and_says_what_it_sees(machine: Machine, kept: Path) -> None:
    run = machine.run("probe", kept)
    assert run.status == 0 and "200" in run.out and "style.css" in run.out
    (kept / "raingauge/static/gauge.png").unlink()
    worse = machine.run("probe", kept)
    assert worse.status == 1 and "/static/gauge.png → 404" in worse.out


@pytest.mark.parametrize("moment", [0.2, 0.5, 0.8, 1.2])
def test_a_kill_at_any_moment_is_made_good_by_the_next_run(
    machine: Machine, kept: Path, moment: float
) -> None:
    machine.run("stop", kept)
    for name in (".venv", "var", ".plainfall"):
        shutil.rmtree(kept / name)
    (kept / ".env").unlink()
    run = machine.start("onboard", kept, "--port", "8610", "--json")
    time.sleep(moment)
    os.kill(run.pid, signal.SIGKILL)
    run.communicate()
    after = machine.run("onboard", kept, "--port", "8610", "--json")
    assert after.status == 0, after.out + after.err
    assert rows(kept, "stations") == 4 and rows(kept, "readings") == 56
    assert len(listeners(8610)) == 1
    leftovers = [p for p in (kept / ".venv/bin").iterdir() if p.name.startswith(".")]
    assert leftovers == [] and not (kept / ".plainfall/making").exists()


@pytest.mark.parametrize("recorded", [True, False])
def test_a_kill_after_the_seeds_undoes_them_only_if_they_were_not_recorded(
    machine: Machine, kept: Path, recorded: bool
) -> None:
    mark = records(kept)["records"]["|seeds"]["mark"] if recorded else "of a run that was cut off"
    guard = kept / ".plainfall/guard/top"
    guard.mkdir(parents=True, exist_ok=True)
    shutil.copy(kept / "var/raingauge.db", guard / "before.db")
    with sqlite3.connect(guard / "before.db") as before:
        before.execute("DELETE FROM stations")
        before.execute("DELETE FROM readings")
    place = str(kept / "var/raingauge.db")
    note = {"step": "seeds", "database": place, "copy": str(guard / "before.db"), "mark": mark}
    path = ".plainfall/guard/top/under-way.json"
    resealed(machine, kept, path, "step under way in top", lambda _: note)
    run = machine.run("onboard", kept, "--port", "8610", "--json")
    assert run.states["seeds"] == ("kept" if recorded else "done")
    assert rows(kept, "stations") == 4 and not (guard / "under-way.json").exists()


def test_a_second_run_at_once_is_refused_with_the_holders_id(machine: Machine, kept: Path) -> None:
    (kept / "seed.py").write_text("import time; time.sleep(30)\n")
    journal = kept / ".plainfall/journal.jsonl"
    before = journal.read_text()
    first = machine.start("onboard", kept, "--seed-again", "--json")
    deadline = time.monotonic() + 20
    while '"seeds"' not in journal.read_text()[len(before) :] and time.monotonic() < deadline:
        time.sleep(0.05)
    second = machine.run("onboard", kept)
    assert second.status == 1 and f"process {first.pid}" in second.err
    first.terminate()
    first.communicate()
    assert first.returncode == 130
    assert machine.run("onboard", kept, "--json").status == 0


@pytest.mark.skipif(
    not Path("/usr/lib/postgresql").is_dir() or shutil.which("redis-server", path="/usr/bin") is None,
    reason="PostgreSQL and Redis are not here",
)
def test_the_demo_with_services_ends_with_rows_and_no_process(machine: Machine) -> None:
    run = machine.run("demo", "--with", "services", "--json", timeout=120)
    assert run.status == 0, run.err
    assert run.document["outcome"] == "done" and run.step("probe")["title"].startswith('200 "Rain desk"')
    services = run.step("services")
    assert "role reader, database raindesk" in services["title"] and "Redis" in services["title"]
    assert run.states["migrations"] == run.states["seeds"] == "done"
    assert not any("driver" in one for step in run.document["steps"] for one in step["remarks"])
    for one in services["detail"]["services"]:
        assert listeners(one["port"]) == []
    assert not Path(run.document["clone"]).exists()


@pytest.mark.needs("git")
def test_only_what_its_own_programs_leave_is_excluded_locally(kept: Path) -> None:
    """A folder of the person's own that another framework would have is not hidden from them."""
    rows = (kept / ".git/info/exclude").read_text().splitlines()
    assert "__pycache__/" in rows and "/.venv/" in rows
    assert not {"/storage/", "/tmp/", "/output/", "/_site/", "/var/cache/", ".next/"} & {*rows}
