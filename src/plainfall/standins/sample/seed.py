"""Fills an empty database with four stations and two weeks of readings. Fails if there is data already."""

from datetime import date, timedelta

import envleaf
import stationnames

envleaf.load()

from raingauge.storage import connect  # noqa: E402

VOLUNTEERS = ["Mira Tolland", "Jonas Pike", "Adaeze Lund", "Wim Carrow"]

with connect() as database:
    for number, name in enumerate(stationnames.names(), 1):
        database.execute("INSERT INTO stations VALUES (?, ?, ?)", (number, name, VOLUNTEERS[number - 1]))
        for back in range(14):
            day = (date(2026, 3, 31) - timedelta(days=back)).isoformat()
            millimetres = (number * 37 + back * 53) % 90 / 10
            database.execute(
                "INSERT INTO readings (station, day, millimetres) VALUES (?, ?, ?)", (number, day, millimetres)
            )
print("four stations, two weeks of readings")
