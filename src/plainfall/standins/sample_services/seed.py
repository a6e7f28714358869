"""The first readings."""

import os

from wires import Database

ROWS = [("2026-03-01", "Ashford Mill", 4.2), ("2026-03-01", "Copper Hill", 0.0), ("2026-03-02", "Ashford Mill", 12.5)]

if os.environ.get("POSTGRES_HOST"):
    database = Database()
    for day, station, millimetres in ROWS:
        database.query(f"INSERT INTO readings VALUES ('{day}', '{station}', {millimetres})")
    print(f"{len(ROWS)} readings")
