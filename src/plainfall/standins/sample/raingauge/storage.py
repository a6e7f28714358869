"""Stations and readings in SQLite."""

import os
import sqlite3


def connect():
    return sqlite3.connect(os.environ["DATABASE_URL"].removeprefix("sqlite:///"))


def latest():
    query = """
        SELECT s.name, r.day, r.millimetres FROM stations s JOIN readings r ON r.station = s.id
        WHERE r.day = (SELECT MAX(day) FROM readings WHERE station = s.id) ORDER BY s.name
    """
    with connect() as database:
        return database.execute(query).fetchall()


def readings():
    query = "SELECT s.name, r.day, r.millimetres FROM stations s JOIN readings r ON r.station = s.id"
    with connect() as database:
        return database.execute(query).fetchall()


def stations():
    with connect() as database:
        return database.execute("SELECT COUNT(*) FROM stations").fetchone()[0]
