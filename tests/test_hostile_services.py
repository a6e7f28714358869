"""Private servers give nobody more than the clone's data; what another user listens with is not the clone's."""

from __future__ import annotations

import os
import re
import socket
import subprocess
import sys
from pathlib import Path

import pytest
from conftest import Machine
from test_services import FILES, port_of, rows

from plainfall.packages.logins import may_lead
from plainfall.server.ports import is_this_users

pytestmark = pytest.mark.hostile
needs_servers = pytest.mark.skipif(
    not Path("/usr/lib/postgresql").is_dir(), reason="PostgreSQL is not on this machine"
)
LISTENS = """\
import os, socket, sys, time
os.setuid(int(sys.argv[1]))
with socket.create_server(("127.0.0.1", 0)) as server:
    print(server.getsockname()[1], flush=True)
    time.sleep(60)
"""


@needs_servers
def test_an_account_of_a_private_database_runs_no_programs_and_reads_no_files(roomy: Machine) -> None:
    import psycopg

    clone = roomy.clone(FILES)
    run = roomy.run("onboard", clone, "--json", timeout=120)
    assert run.status == 0, run.out + run.err
    port = port_of(run)
    try:
        assert rows(
            "reader:drops", "SELECT rolsuper, rolcreaterole FROM pg_roles WHERE rolname = 'reader'", port
        ) == [(False, False)]
        rows("reader:drops", "CREATE TABLE readings (millimetres int)", port)
        for query in (
            "COPY readings FROM PROGRAM 'echo 1'",
            "SELECT pg_read_file('/etc/passwd')",
            "SELECT lo_import('/etc/passwd')",
            "ALTER ROLE reader SUPERUSER",
            "GRANT pg_execute_server_program TO reader",
            "CREATE ROLE other IN ROLE pg_execute_server_program",
        ):
            with pytest.raises(psycopg.Error):
                rows("reader:drops", query, port)
        with pytest.raises(psycopg.OperationalError):
            rows("plainfall own:", "SELECT 1", port)
    finally:
        roomy.run("stop", clone)


@needs_servers
@pytest.mark.parametrize(
    "template",
    [
        "DATABASE_URL=postgresql://reader@localhost:5432/gauges\n",
        "DB_HOST=localhost\nDB_PORT=5432\nDB_NAME=gauges\nDB_USER=reader\nDB_PASSWORD=\n",
    ],
)
def test_a_password_that_the_template_leaves_open_is_made_strong(roomy: Machine, template: str) -> None:
    """So that no other user of the machine comes in; the next run keeps it."""
    import psycopg

    clone = roomy.clone(
        {"app.py": FILES["app.py"], "requirements.txt": "# psycopg\n", ".env.example": template}
    )
    run = roomy.run("onboard", clone, "--until", "services", "--json", timeout=120)
    assert run.status == 0, run.out + run.err
    try:
        with pytest.raises(psycopg.OperationalError):
            rows("reader:", "SELECT 1", port_of(run))
        settings = (clone / ".env").read_text()
        match = re.search(r"PASSWORD=(\w{64})$|reader:(\w{64})@", settings, re.MULTILINE)
        assert match is not None, settings
        assert rows(f"reader:{match.group(1) or match.group(2)}", "SELECT 1", port_of(run)) == [(1,)]
        again = roomy.run("onboard", clone, "--until", "services", "--json", timeout=120)
        assert again.status == 0
        port = re.compile("^PORT=.*", re.MULTILINE)  # another program may have taken that meanwhile
        assert port.sub("", (clone / ".env").read_text()) == port.sub("", settings)
    finally:
        roomy.run("stop", clone)


@pytest.mark.needs("mariadbd")
def test_an_account_of_a_private_mariadb_reads_and_writes_no_files(roomy: Machine, tmp_path: Path) -> None:
    import pymysql

    clone = roomy.clone(
        {
            **FILES,
            "compose.yml": "services:\n  db:\n    image: mariadb:11\n    environment:\n      MARIADB_DATABASE: gauges\n"
            '      MARIADB_USER: reader\n      MARIADB_PASSWORD: drops\n    ports: ["3306:3306"]\n',
            ".env.example": "DATABASE_URL=mysql://reader:drops@db:3306/gauges\n",
        }
    )
    run = roomy.run("onboard", clone, "--json", timeout=180)
    assert run.status == 0, run.out + run.err
    try:
        with pymysql.connect(
            host="127.0.0.1", port=port_of(run, "mysql"), user="reader", password="drops", database="gauges"
        ) as database:
            cursor = database.cursor()
            cursor.execute("CREATE TABLE readings (words text)")
            for query in (
                f"SELECT 1 INTO OUTFILE '{tmp_path}/out.txt'",
                "LOAD DATA INFILE '/etc/passwd' INTO TABLE readings",
                "SELECT user FROM mysql.user",
                "GRANT FILE ON *.* TO reader@localhost",
            ):
                with pytest.raises(pymysql.MySQLError):
                    cursor.execute(query)
            cursor.execute("SELECT LOAD_FILE('/etc/passwd')")
            assert cursor.fetchone() == (None,)
    finally:
        roomy.run("stop", clone)


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can listen as another user")
@pytest.mark.parametrize(("user", "ours"), [(1234, False), (1, True)])
def test_a_listener_of_another_person_is_not_this_users(user: int, ours: bool) -> None:
    """Another person's is not; a server that belongs to an account of the system is."""
    process = subprocess.Popen([sys.executable, "-c", LISTENS, str(user)], stdout=subprocess.PIPE, text=True)
    try:
        assert process.stdout is not None
        port = int(process.stdout.readline())
        assert is_this_users(port) is ours
    finally:
        process.kill()
        process.communicate()


def test_a_listener_of_this_user_is(tmp_path: Path) -> None:
    with socket.create_server(("127.0.0.1", 0)) as server:
        assert is_this_users(server.getsockname()[1])


@pytest.mark.parametrize(
    ("origin", "target", "led"),
    [
        ("https://code.example/kit", "http://127.0.0.1:8000/kit", False),
        ("https://code.example/kit", "http://[::1]/kit", False),
        ("https://code.example/kit", "http://[::ffff:127.0.0.1]/kit", False),
        ("https://code.example/kit", "http://2130706433/kit", False),
        ("https://code.example/kit", "http://0/kit", False),
        ("https://code.example/kit", "http://gauges.localhost/kit", False),
        ("https://code.example/kit", "https://203.0.113.9/kit", True),
        ("http://127.0.0.1:8000/kit", "http://localhost:9000/kit", True),
    ],
)
def test_nothing_leads_from_elsewhere_to_this_machine(origin: str, target: str, led: bool) -> None:
    assert may_lead(origin, target) is led
