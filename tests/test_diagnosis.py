"""Every failure that a rule is for is produced for real and recognised; on logs of healthy starts no rule fires."""

from __future__ import annotations

import os
import shutil
import subprocess
import time
import tomllib
from collections.abc import Iterator
from pathlib import Path

import pytest
from diagnosis_cases import CASES, HEALTHY, Case, Healthy, run_case
from forked import PYTHON

import plainfall.diagnosis
from plainfall.diagnosis.reading import diagnose, lines_that_matter, own_words
from plainfall.server.ports import free_port
from plainfall.server.process import new_mark, start, stop
from plainfall.server.readiness import wait_until_ready


@pytest.mark.parametrize("case", CASES, ids=lambda case: f"{case.rule}-{case.needs.split()[-1]}")
def test_a_failure_is_recognised(case: Case, tmp_path: Path) -> None:
    try:
        status, said = run_case(case, tmp_path)
    except LookupError as error:
        pytest.skip(f"no {error} here")
    found = diagnose(said, status)
    assert found.rule == case.rule, said[-2000:]
    assert case.named in found.cause and found.remedy and "{name}" not in found.cause + found.remedy
    assert found.line in said


@pytest.mark.parametrize("healthy", HEALTHY, ids=lambda healthy: healthy.title)
def test_no_rule_fires_on_a_healthy_start(healthy: Healthy, tmp_path: Path) -> None:
    if healthy.needs != "python" and shutil.which(healthy.needs) is None:
        pytest.skip(f"no {healthy.needs} here")
    for name, text in healthy.files.items():
        (tmp_path / name).write_text(text)
    port = free_port(9500)
    command = healthy.command.replace("{python}", PYTHON)
    variables = {"PATH": os.environ["PATH"], "PORT": str(port), "PYTHONUNBUFFERED": "1"}
    running, process = start(command, tmp_path, variables, tmp_path / "log", port, new_mark())
    try:
        ready = wait_until_ready(running, process, 15, lambda waited: None)
        # Before it is ended: some take that for a failure.
        log = (tmp_path / "log").read_text("utf-8", "replace")
    finally:
        stop(running, process)
    assert ready.state == "answers", log
    assert diagnose(log).rule == "", log


def _programs() -> Path | None:
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"))
    return found[-1].parent if found and os.getuid() == 0 else None


@pytest.fixture(scope="module")
def database(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Path, int]]:
    """A server of our own, which asks for passwords; its programs' folder, and its port."""
    programs = _programs()
    assert programs is not None
    place = tmp_path_factory.mktemp("server")
    for folder in (place, *(one for one in place.parents if "pytest" in str(one))):
        folder.chmod(0o755)
    shutil.chown(place, "postgres", "postgres")
    (place / "password").write_text("rain-and-more")
    shutil.chown(place / "password", "postgres")
    port = free_port(9700)

    def as_owner(line: str) -> None:
        subprocess.run(
            ["su", "postgres", "-s", "/bin/sh", "-c", line], check=True, capture_output=True, cwd="/"
        )

    as_owner(f"{programs}/initdb -D {place}/data -A scram-sha-256 --pwfile={place}/password -U owner")
    options = f"-p {port} -k {place} -c listen_addresses=127.0.0.1 -c fsync=off"
    as_owner(f"{programs}/pg_ctl -D {place}/data -w -l {place}/log -o '{options}' start")
    yield programs, port
    as_owner(f"{programs}/pg_ctl -D {place}/data -m immediate stop")


@pytest.mark.skipif(_programs() is None, reason="no PostgreSQL here, or not root")
@pytest.mark.parametrize(
    ("user", "password", "name", "rule", "named"),
    [
        ("owner", "wrong", "postgres", "database-password", "owner"),
        ("owner", "rain-and-more", "gauges", "database-not-there", "gauges"),
        ("owner", "rain-and-more", "postgres", "table-missing", "stations"),
        ("owner", "rain-and-more", "postgres; CREATE EXTENSION postgis", "database-extension", "postgis"),
        ("", "", "", "database-unreachable", "5432"),
    ],
)
def test_what_a_database_server_refuses_is_recognised(
    database: tuple[Path, int], user: str, password: str, name: str, rule: str, named: str
) -> None:
    name, _, query = name.partition("; ")
    programs, port = database
    words = [
        "-h",
        "127.0.0.1",
        "-p",
        str(port if user else 5432),
        "-U",
        user or "nobody",
        "-d",
        name or "gauges",
    ]
    done = subprocess.run(
        [programs / "psql", *words, "-c", query or "SELECT * FROM stations"],
        env={"PATH": os.environ["PATH"], "PGPASSWORD": password, "LANG": "C.UTF-8"},
        capture_output=True,
        text=True,
        check=False,
    )
    found = diagnose(done.stderr, done.returncode)
    assert found.rule == rule and named in found.cause, done.stderr


def test_the_rules_are_many_and_each_is_whole() -> None:
    folder = Path(plainfall.diagnosis.__file__).parent
    rules = tomllib.loads((folder / "rules.toml").read_text("utf-8"))["rule"]
    names = [rule["id"] for rule in rules]
    assert len(names) == len(set(names)) >= 40
    assert len({case.rule for case in CASES}) >= 40
    for rule in rules:
        assert ("pattern" in rule) != ("status" in rule) and rule["cause"] and rule["remedy"]


@pytest.mark.parametrize(
    "piece", ["a", " ", '"', "a/", "1", "venv", "ECONNREFUSED ", "Cannot find module 'a", "a? ("]
)
def test_long_lines_cost_no_more_than_short_ones(piece: str) -> None:
    line = (piece * 20_000)[:20_000]
    begin = time.perf_counter()
    for _ in range(5):
        diagnose(line)
    assert time.perf_counter() - begin < 2  # s; it took over 20 a line where the patterns saw the whole of it


def test_a_failure_at_either_end_of_a_long_line_is_recognised() -> None:
    line = "gauge " * 4_000
    ends = (f"EADDRINUSE {line}", f"{line}\nmore {line} EADDRINUSE")
    assert [diagnose(one).rule for one in ends] == ["port-taken"] * 2
    assert all(len(one) < 700 for one in lines_that_matter(ends[1]))


@pytest.mark.parametrize(
    ("lines", "words"),
    [
        (("Traceback (most recent call last):", "ValueError: no gauge"), "ValueError: no gauge"),
        (("starting", "❌ Error during sign-in: credentials.json not found", ""), "❌ Error during sign-in: credentials.json not found"),
        (("Error: the station is unknown", "bye"), "Error: the station is unknown"),
        (("12 mm", "done"), ""),
        (("RuntimeError: " + "x" * 400,), "RuntimeError: " + "x" * 166 + " …"),
    ],
)  # fmt: skip
def test_where_no_rule_knows_the_programs_own_last_word_is_the_cause(
    lines: tuple[str, ...], words: str
) -> None:
    assert own_words(lines) == words
