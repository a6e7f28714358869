"""What the pages show, against a database of the tests."""

import unittest

from raingauge import storage


class Storage(unittest.TestCase):
    def setUp(self):
        with storage.connect() as database:
            database.execute("DELETE FROM readings")
            database.execute("INSERT INTO readings (station, day, millimetres) SELECT MIN(id), '2026-03-01', 4.2 FROM stations")

    def test_the_latest_reading_is_shown(self):
        self.assertEqual([row[1:] for row in storage.latest()], [("2026-03-01", 4.2)])

    def test_every_station_counts(self):
        self.assertGreater(storage.stations(), 0)


if __name__ == "__main__":
    unittest.main()
