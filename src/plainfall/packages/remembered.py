"""Small conclusions that every later run of this user takes up again, as JSON files in the cache."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from plainfall.errors import ArchiveRefused
from plainfall.patterns import regex
from plainfall.writing import read_json, write_replacing

__all__ = ["Remembered"]

_NAME = regex(r"[A-Za-z0-9][A-Za-z0-9-]{0,180}")


class Remembered:
    """``FOLDER/KIND/KEY.json``; the folder need not exist yet."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def remember(self, kind: str, key: str, value: object) -> None:
        """Keeps a small conclusion (JSON) under a key."""
        folder = self.folder / kind
        folder.mkdir(parents=True, exist_ok=True)
        write_replacing(folder / f"{_named(key)}.json", json.dumps(value))

    def recall(self, kind: str, key: str) -> Any:
        """What ``remember`` kept, or None."""
        return read_json(self.folder / kind / f"{_named(key)}.json")


def _named(key: str) -> str:
    if not _NAME.fullmatch(key):
        raise ArchiveRefused(f"{key[:120]!r} is no name under which anything is remembered")
    return key
