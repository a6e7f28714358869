"""Small conclusions that every later run of this user takes up again, as JSON files in the cache."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from plainfall.packages.cache_key import CacheKey
from plainfall.writing import read_json, write_replacing

__all__ = ["Remembered"]


class Remembered:
    """``FOLDER/KIND/NAME.json``; the folder need not exist yet."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def remember(self, key: CacheKey, value: object) -> None:
        """Keeps a small conclusion (JSON) under a key."""
        place = self.conclusion(key)
        place.parent.mkdir(parents=True, exist_ok=True)
        write_replacing(place, json.dumps(value, separators=(",", ":")), mode=0o600)

    def recall(self, key: CacheKey) -> Any:
        """What ``remember`` kept, or None."""
        return read_json(self.conclusion(key))

    def conclusion(self, key: CacheKey) -> Path:
        """The file of a conclusion, for messages that name it."""
        return self.folder / key.kind / f"{key.name}.json"
