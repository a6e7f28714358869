"""A look into the databases of a clone: files here, servers in the tests below."""

from __future__ import annotations

import csv
import os
import shutil
import sqlite3
import time
from pathlib import Path

import pytest
from conftest import SERVER, Machine
from test_services import COMPOSE, port_of, rows

from plainfall.data.applied import applied_in
from plainfall.data.opened import DatabasePlace, opened
from plainfall.data.tables import tables_of
from plainfall.evidence import Evidence

SCHEMA = """
CREATE TABLE stations (id INTEGER PRIMARY KEY, name VARCHAR(80) NOT NULL, height REAL, api_token TEXT);
CREATE TABLE readings (id INTEGER PRIMARY KEY, station INTEGER NOT NULL REFERENCES stations (id),
                       created_at TIMESTAMP NOT NULL, millimetres REAL NOT NULL);
CREATE TABLE django_migrations (id INTEGER PRIMARY KEY, app TEXT, name TEXT);
INSERT INTO stations VALUES (1, 'Ashford', 12.5, 'very-secret-token'), (2, 'Weir' || char(27) || '[31m', NULL, NULL);
INSERT INTO readings VALUES (1, 1, '2026-03-02 08:00:00', 4.0), (2, 1, '2026-03-01 08:00:00', 100.0);
INSERT INTO django_migrations VALUES (1, 'gauges', '0001_initial'), (2, 'gauges', '0009_gone'), (3, 'auth', '0001_x');
"""


@pytest.fixture
def clone(machine: Machine) -> Path:
    place = machine.clone(
        {
            "requirements.txt": "",
            "app.py": SERVER,
            ".env.example": "DATABASE_URL=sqlite:///gauges.db\n",
            "gauges/migrations/0001_initial.py": "",
            "gauges/migrations/0002_height.py": "",
            "gauges/migrations/__init__.py": "",
        }
    )
    with sqlite3.connect(place / "gauges.db") as database:
        database.executescript(SCHEMA)
    database.close()
    return place


def test_tables_columns_counts_and_migrations(machine: Machine, clone: Path) -> None:
    run = machine.run("data", clone)
    assert run.status == 0, run.err
    text = " ".join(run.out.split())
    assert "SQLite gauges.db" in text
    assert "migrations Django: 3 applied, 1 pending" in text and "pending: gauges 0002_height" in text
    assert "applied, and no file of the clone: gauges 0009_gone" in text and "auth" not in text
    assert "stations 2 id integer key, name varchar(80), height real or null" in text
    assert "station integer → stations.id" in text
    [found] = machine.run("data", clone, "--json").document["databases"]
    assert {one["table"]: one["rows"] for one in found["tables"]} == {
        "django_migrations": 3, "readings": 2, "stations": 2,
    }  # fmt: skip


def test_rows_of_a_table(machine: Machine, clone: Path) -> None:
    run = machine.run("data", clone, "readings")
    lines = [line for line in run.out.splitlines() if line.startswith(("1 ", "2 "))]
    assert [line.split()[0] for line in lines] == ["1", "2"] and "newest created_at first" in run.out
    one = machine.run("data", clone, "readings", "--where", "millimetres > 50", "--json").document
    assert [row[0] for row in one["rows"]] == [2] and not one["more"]
    more = machine.run("data", clone, "readings", "--limit", "1")
    assert "there are more: --limit N" in more.out
    shown = machine.run("data", clone, "stations")
    assert "very-secret-token" not in shown.out and "covered: api_token (--reveal shows them)" in shown.out
    assert "\x1b" not in shown.out and "null" in shown.out
    assert "very-secret-token" in machine.run("data", clone, "stations", "--reveal").out
    within = machine.run("data", "stations", "--json", cwd=str(clone / "gauges"))
    assert within.status == 0 and within.document["table"]["table"] == "stations"
    near = machine.run("data", clone, "tation")
    assert near.status == 2 and "there is no table tation" in near.err


def test_queries_only_read(machine: Machine, clone: Path) -> None:
    run = machine.run(
        "data", clone, "--query", "SELECT name, '5%' AS share FROM stations ORDER BY id LIMIT 1", "--json"
    )
    assert run.document["columns"] == ["name", "share"] and run.document["rows"] == [["Ashford", "5%"]]
    for query, said in (
        ("DELETE FROM stations", "this would change data, and here it is only read"),
        ("SELECT 1; DELETE FROM stations", "one statement"),
        ("SELECT * FROM nowhere", "no such table: nowhere"),
        ("ATTACH DATABASE 'other.db' AS other", ""),
    ):
        refused = machine.run("data", clone, "--query", query)
        assert refused.status in (1, 2) and said in " ".join(refused.err.split()), query
    assert machine.run("data", clone, "stations", "--where", "1=1); DELETE FROM stations; --").status == 1
    with sqlite3.connect(clone / "gauges.db") as database:
        assert database.execute("SELECT COUNT(*) FROM stations").fetchone() == (2,)
    assert not (clone / "other.db").exists()
    for words, said in (
        (("--where", "1"), "--where is about a table's rows"),
        (("--csv", "x.csv"), "--csv is for rows"),
        (("stations", "--query", "SELECT 1"), "--query says all by itself"),
        (("--database", "nix"), "nix is no database of this clone"),
    ):
        wrong = machine.run("data", clone, *words)
        assert wrong.status == 2 and said in wrong.err
    endless = "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT COUNT(*) FROM n"
    begin = time.monotonic()
    slow = machine.run("data", clone, "--query", endless, timeout=60)
    assert slow.status == 1 and "no answer within 20 s" in slow.err and time.monotonic() - begin < 40


def test_rows_into_a_file(machine: Machine, clone: Path, tmp_path: Path) -> None:
    file = tmp_path / "stations.csv"
    run = machine.run("data", clone, "stations", "--csv", file)
    assert run.status == 0 and "2 rows of stations" in run.out
    with file.open(newline="", encoding="utf-8") as opened_file:
        written = list(csv.reader(opened_file))
    assert written[0] == ["id", "name", "height", "api_token"] and len(written) == 3
    assert written[1][:3] == ["2", "Weir\x1b[31m", ""] and "very-secret-token" not in str(written)


def test_what_has_changed_since_the_last_look(machine: Machine, clone: Path) -> None:
    assert "this is the first look" in machine.run("data", clone, "--changes").out
    assert "the same rows in every table" in machine.run("data", clone, "--changes").out
    with sqlite3.connect(clone / "gauges.db") as database:
        database.executescript(
            "DELETE FROM readings WHERE id = 1; CREATE TABLE drops AS SELECT 1 AS x; DROP TABLE stations;"
        )
    database.close()
    text = " ".join(machine.run("data", clone, "--changes").out.split())
    assert "readings -1 rows, now 1" in text and "drops new, 1 rows" in text and "stations taken away" in text
    machine.run("data", clone)  # a look without the option changes nothing
    assert "the same rows" in machine.run("data", clone, "--changes").out


def test_clones_without_a_database(machine: Machine) -> None:
    run = machine.run("data", machine.clone({"requirements.txt": "", "app.py": SERVER}))
    assert run.status == 2 and "no database of this clone was found" in run.err
    assert machine.run("data", machine.home / "nowhere/at/all").status in (2, 4)
    bad = machine.clone({"requirements.txt": "", "app.py": SERVER}, "bad")
    (bad / "bad.db").write_bytes(b"SQLite format 3\0" + b"drops" * 300)
    broken = machine.run("data", bad)
    assert broken.status == 1 and "bad.db" in broken.out + broken.err


def test_what_a_revision_graph_has_applied(tmp_path: Path) -> None:
    file = tmp_path / "a.db"
    with sqlite3.connect(file) as database:
        database.executescript(
            "CREATE TABLE alembic_version (version_num TEXT); INSERT INTO alembic_version VALUES ('b2');"
        )
    database.close()
    texts = {
        "alembic/versions/a1_first.py": "revision = 'a1'\ndown_revision = None\n",
        "alembic/versions/b2_second.py": "revision: str = 'b2'\ndown_revision: str | None = 'a1'\n",
        "alembic/versions/c3_third.py": "revision = 'c3'\ndown_revision = ('b2', 'a1')\n",
    }
    with opened(DatabasePlace("sqlite", "a", Evidence("a"), file)) as connection:
        [found] = applied_in(connection, ["alembic_version"], texts, texts.__getitem__)
    assert (found.applied, found.pending) == (2, ("c3",))


def test_a_table_of_two_million_rows_is_told_in_a_second(tmp_path: Path) -> None:
    file = tmp_path / "large.db"
    with sqlite3.connect(file) as database:
        database.execute("CREATE TABLE readings (id INTEGER PRIMARY KEY, millimetres REAL, remark TEXT)")
        database.execute(
            "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 2000000) "
            "INSERT INTO readings SELECT i, i % 30, 'rain and more rain, all day long' FROM n"
        )
    database.close()
    begin = time.monotonic()
    [found] = tables_of(DatabasePlace("sqlite", "large", Evidence("large"), file))
    assert time.monotonic() - begin < 1.0 and found.rows == 2_000_000


@pytest.mark.skipif(
    not Path("/usr/lib/postgresql").is_dir() or shutil.which("redis-server", path="/usr/bin") is None,
    reason="PostgreSQL and Redis are not here",
)
def test_servers_are_looked_into_as_well(roomy: Machine) -> None:
    compose = COMPOSE + '  cache:\n    image: redis:7\n    ports: ["6379:6379"]\n'
    clone = roomy.clone(
        {
            "requirements.txt": "",
            "app.py": SERVER,
            "compose.yml": compose,
            ".env.example": "DATABASE_URL=postgresql://reader:drops@db:5432/gauges\nREDIS_URL=redis://cache:6379/0\n",
        }
    )
    run = roomy.run("onboard", clone, "--json", timeout=120)
    assert run.document["outcome"] == "done", run.document["failure"]
    port = port_of(run)
    rows(
        "reader:drops",
        "CREATE TABLE readings (id serial PRIMARY KEY, at timestamptz DEFAULT now(), millimetres numeric(6, 1), "
        "password text)",
        port,
    )
    rows(
        "reader:drops",
        "INSERT INTO readings (millimetres, password) VALUES (4.5, 'hidden'), (0.5, NULL)",
        port,
    )
    import redis

    client = redis.Redis("127.0.0.1", port_of(run, "redis"))
    client.set("station:1", "Ashford")
    client.rpush("days", "monday", "tuesday")
    client.set("session_token:1", "not to be shown")
    client.close()
    looks = roomy.run("data", clone)
    text = " ".join(looks.out.split())
    assert looks.status == 0, looks.err
    assert "PostgreSQL database gauges" in text and f"port {port}" in text
    assert "readings 2 id integer key" in text and "millimetres numeric(6, 1) or null" in text
    assert "string 2 keys" in text and "station:1 Ashford" in text and "days 2 items: monday, tuesday" in text
    assert "not to be shown" not in looks.out
    table = roomy.run("data", clone, "readings", "--json").document
    assert table["columns"] == ["id", "at", "millimetres", "password"] and "hidden" not in str(table["rows"])
    for query in (
        "DELETE FROM readings",
        "SELECT 1; COMMIT; DELETE FROM readings",
        "SELECT setval('readings_id_seq', 9)",
    ):
        refused = roomy.run("data", clone, "--query", query, "--database", "gauges")
        assert refused.status in (1, 2), query
    assert len(rows("reader:drops", "SELECT * FROM readings", port)) == 2
    percent = roomy.run(
        "data", clone, "--query", "SELECT '5%' AS share, 7 % 4 AS rest", "--database", "gauges", "--json"
    )
    assert percent.document["rows"] == [["5%", 3]]
    roomy.run("stop", clone)
    down = roomy.run("data", clone)
    assert down.status == 1 and "Start the clone's servers with: plainfall serve" in down.out + down.err
    assert os.path.isdir(clone / ".plainfall")
