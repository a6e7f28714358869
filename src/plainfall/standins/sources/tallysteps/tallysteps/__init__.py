"""Numbered SQL files, applied in order, each once and whole."""

import sqlite3
from pathlib import Path

__version__ = "2.1.0"


def database_path(address):
    if not address.startswith("sqlite:///"):
        raise SystemExit("tallysteps: DATABASE_URL must begin with sqlite:///, not %r" % address)
    return address[len("sqlite:///") :]


def apply(address, folder):
    path = Path(database_path(address))
    path.parent.mkdir(parents=True, exist_ok=True)
    database = sqlite3.connect(path)
    database.execute("CREATE TABLE IF NOT EXISTS applied_steps (name TEXT PRIMARY KEY, at TEXT)")
    applied = {row[0] for row in database.execute("SELECT name FROM applied_steps")}
    for file in sorted(Path(folder).glob("*.sql")):
        if file.name in applied:
            continue
        print("tallysteps: applying", file.name, flush=True)
        database.executescript(file.read_text("utf-8"))
        database.execute("INSERT INTO applied_steps VALUES (?, datetime('now'))", (file.name,))
        database.commit()
    database.close()
