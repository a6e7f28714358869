CREATE TABLE readings (
    id INTEGER PRIMARY KEY,
    station INTEGER NOT NULL REFERENCES stations (id),
    day TEXT NOT NULL,
    millimetres REAL NOT NULL,
    UNIQUE (station, day)
);
