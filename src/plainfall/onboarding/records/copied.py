"""The records of a clone that was copied or moved: what is true of the files that came along is kept."""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from plainfall.kept_records import DataStep, Record, SettingsWritten

__all__ = ["adopted"]

_CARRIED = {kind.NAME for kind in Record.__subclasses__() if kind.CARRIED} | {
    SettingsWritten.SHARED,
    DataStep.SEEDS,
}


def adopted(content: Mapping[str, Any], old: Path, new: Path) -> dict[str, Any]:
    """The records for a clone at ``new`` that was at ``old``: settings that were written, and which databases
    were migrated and seeded (those within the clone are the copies). No servers, no commands; the data of private
    databases where the clone was moved: that of one that was copied while they ran may be half-written."""
    records = {}
    for name, record in content.get("records", {}).items():
        stage = name.rpartition("|")[2]
        if stage in _CARRIED and isinstance(record, dict):
            records[name] = _rebased(record, old, new) if "database" in record else record
    services = content.get("services", {}) if not os.path.lexists(old) else {}
    return {
        "version": content["version"],
        "records": records,
        "made": {path: _without_identity(row) for path, row in content.get("made", {}).items()},
        "servers": {},
        "commands": {},
        "services": {name: _moved(row, old, new) for name, row in services.items()},
    }


def _without_identity(row: dict[str, Any]) -> dict[str, Any]:
    return {name: value for name, value in row.items() if name != "inode"}


def _moved(row: dict[str, Any], old: Path, new: Path) -> dict[str, Any]:
    data = Path(row.get("data", ""))
    return {**row, "data": str(new / data.relative_to(old))} if data.is_relative_to(old) else row


def _rebased(record: dict[str, Any], old: Path, new: Path) -> dict[str, Any]:
    database = record["database"]
    if isinstance(database, list):  # an administrator's: path and inode
        path, _ = database
        return {**record, "database": list(_file(path, old, new))} if path else record
    if not database:
        return record
    path, inode = _file(database, old, new)
    return {**record, "database": path, "inode": inode or record.get("inode")}


def _file(path: str, old: Path, new: Path) -> tuple[str, list[int] | None]:
    """Where a database is now, with its device and inode."""
    real = Path(os.path.realpath(path))
    place = new / real.relative_to(old) if real.is_relative_to(old) else Path(path)
    try:
        status = os.stat(place)
    except OSError:
        return str(place), None
    return str(place), [status.st_dev, status.st_ino]
