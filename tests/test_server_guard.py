"""A step on the database of a private server happens, or leaves it as it was, even across a kill."""

from __future__ import annotations

import shutil
import signal
from pathlib import Path

import pytest
from conftest import Machine, eventually, records
from test_services import FILES, port_of, rows

needs_servers = pytest.mark.skipif(
    not Path("/usr/lib/postgresql").is_dir() or shutil.which("psql") is None, reason="PostgreSQL is not here"
)
MORE = {
    "Procfile": "web: python app.py\nseed: python seed.py\n",
    "seed.py": "import subprocess, sys\nsys.exit(subprocess.call(['sh', 'seed.sh']))\n",
}
FIRST = 'psql -q "$DATABASE_URL" -c "CREATE TABLE readings AS SELECT 4 AS millimetres"\n'


def names(port: int) -> list[str]:
    found = rows("reader:drops", "SELECT datname FROM pg_database WHERE datname LIKE 'gauges%'", port)
    return sorted(str(row[0]) for row in found)


@needs_servers
def test_a_step_that_fails_leaves_the_database_as_it_was(roomy: Machine) -> None:
    clone = roomy.clone({**FILES, **MORE, "seed.sh": FIRST})
    run = roomy.run("onboard", clone, "--json", timeout=120)
    assert run.states["seeds"] == "done", run.out
    port = port_of(run)
    assert names(port) == ["gauges"]
    (clone / "seed.sh").write_text('psql -q "$DATABASE_URL" -c "DROP TABLE readings"\nexit 3\n')
    failed = roomy.run("onboard", clone, "--seed-again", timeout=60)
    assert failed.status == 1
    assert "The database gauges was put back as it was before this step" in " ".join(failed.err.split())
    assert rows("reader:drops", "SELECT * FROM readings", port) == [(4,)] and names(port) == ["gauges"]
    owner = "SELECT rolname FROM pg_roles r JOIN pg_database d ON r.oid = d.datdba WHERE datname = 'gauges'"
    assert rows("reader:drops", owner, port) == [("reader",)]


@needs_servers
def test_a_step_that_a_kill_cut_off_is_undone_by_the_next_run(roomy: Machine) -> None:
    clone = roomy.clone({**FILES, **MORE, "seed.sh": FIRST})
    port = port_of(roomy.run("onboard", clone, "--json", timeout=120))
    half = 'psql -q "$DATABASE_URL" -c "DROP TABLE readings"\ntouch reached\nsleep 60\n'
    (clone / "seed.sh").write_text(half)
    run = roomy.start("onboard", clone, "--seed-again")
    assert eventually((clone / "reached").exists)
    run.send_signal(signal.SIGKILL)
    run.wait(20)
    assert rows("reader:drops", "SELECT to_regclass('readings')", port) == [(None,)]
    (clone / "seed.sh").write_text("true\n")
    again = roomy.run("onboard", clone, "--seed-again", "--json", timeout=60)
    assert again.status == 0, again.out
    said = " ".join(again.step("seeds")["remarks"])
    assert "seeds were cut off in a run before. The database gauges was put back" in said
    assert rows("reader:drops", "SELECT * FROM readings", port) == [(4,)] and names(port) == ["gauges"]
    assert "server step under way" not in str(records(clone)["records"])


@needs_servers
def test_a_database_that_somebody_is_connected_to_is_not_copied_and_that_is_said(roomy: Machine) -> None:
    import psycopg

    clone = roomy.clone({**FILES, **MORE, "seed.sh": FIRST})
    port = port_of(roomy.run("onboard", clone, "--json", timeout=120))
    (clone / "seed.sh").write_text("true\n")
    login = f"host=127.0.0.1 port={port} user=reader password=drops dbname=gauges"
    with psycopg.connect(login):
        run = roomy.run("onboard", clone, "--seed-again", "--json", timeout=60)
    assert run.status == 0
    assert "no copy of the database gauges was made before: 1 programs are connected" in " ".join(
        run.step("seeds")["notes"] if "notes" in run.step("seeds") else run.step("seeds")["remarks"]
    )


def of_mariadb(query: str, port: int) -> list[tuple[object, ...]]:
    import pymysql

    with (
        pymysql.connect(
            host="127.0.0.1", port=port, user="reader", password="drops", database="gauges", autocommit=True
        ) as database,
        database.cursor() as cursor,
    ):
        cursor.execute(query)
        return list(cursor.fetchall())


@pytest.mark.skipif(
    shutil.which("mariadbd", path="/usr/sbin:/usr/bin") is None or shutil.which("mariadb-dump") is None,
    reason="MariaDB is not here",
)
@pytest.mark.parametrize("cut", ["fails", "is killed"])
@needs_servers
def test_a_step_on_mariadb_happens_or_leaves_it_as_it_was(roomy: Machine, cut: str) -> None:
    compose = (
        "services:\n  db:\n    image: mariadb:10\n    environment:\n      MARIADB_DATABASE: gauges\n"
        "      MARIADB_USER: reader\n      MARIADB_PASSWORD: drops\n    ports: ['3306:3306']\n"
    )
    template = "DATABASE_URL=mysql://reader:drops@db:3306/gauges\nDB_PORT=3306\n"
    asks = 'mariadb --no-defaults -h 127.0.0.1 -P "$DB_PORT" -u reader -pdrops gauges -e '
    first = asks + (
        '"CREATE TABLE stations (id INT PRIMARY KEY) ENGINE=InnoDB; INSERT INTO stations VALUES (7);'
        " CREATE TABLE readings (millimetres INT, station INT, FOREIGN KEY (station) REFERENCES stations (id));"
        " CREATE TRIGGER more BEFORE INSERT ON readings FOR EACH ROW SET NEW.millimetres = NEW.millimetres + 1;"
        ' INSERT INTO readings VALUES (3, 7)"\n'
    )
    clone = roomy.clone({**FILES, **MORE, "compose.yml": compose, ".env.example": template, "seed.sh": first})
    run = roomy.run("onboard", clone, "--json", timeout=120)
    assert run.states["seeds"] == "done", run.out
    port = port_of(run, "mysql")
    assert of_mariadb("SELECT * FROM readings", port) == [(4, 7)]
    gone = asks + '"DROP TABLE readings; DROP TABLE stations"\n'
    if cut == "fails":
        (clone / "seed.sh").write_text(gone + "exit 3\n")
        failed = roomy.run("onboard", clone, "--seed-again", timeout=60)
        assert failed.status == 1
        assert "The database gauges was put back as it was before this step" in " ".join(failed.err.split())
    else:
        (clone / "seed.sh").write_text(gone + "touch reached\nsleep 60\n")
        started = roomy.start("onboard", clone, "--seed-again")
        assert eventually((clone / "reached").exists)
        started.send_signal(signal.SIGKILL)
        started.wait(20)
        assert of_mariadb("SHOW TABLES", port) == []
        (clone / "seed.sh").write_text("true\n")
        again = roomy.run("onboard", clone, "--seed-again", "--json", timeout=60)
        assert again.status == 0, again.out
    assert of_mariadb("SELECT * FROM readings", port) == [(4, 7)]
    of_mariadb("INSERT INTO readings VALUES (1, 7)", port)  # its trigger is there, too
    assert of_mariadb("SELECT millimetres FROM readings ORDER BY 1", port) == [(2,), (4,)]
    data = Path(records(clone)["services"]["mysql"]["data"])
    assert not list(data.parent.glob("*.sql"))
