"""Release lines of Node with long-term support: shipped data, and what a release index that the user named states.

A release index is the JSON list next to published builds of the runtime (``index.json``): objects
with ``version``, ``date`` and ``lts`` (the line's code name, or false). A line ends, as most have since the
twelfth, on April 30 of the third year after its first release.
"""

from __future__ import annotations

import datetime
import re
import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from msgspec import Struct

from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.remembered import Remembered
from plainfall.reading import json_value

__all__ = ["Lines", "known_lines", "learn_lines"]

_REMEDY = (
    "A release index is a JSON list of objects with version, date and lts; it lies next to the builds of the "
    "runtime as index.json."
)
_KEY = CacheKey.of_machine("release-lines", "node")


class Lines(Struct, frozen=True):
    """Majors and last days of the lines that ever had long-term support, by code name (lower case)."""

    by_name: Mapping[str, tuple[int, datetime.date]]

    @property
    def majors(self) -> list[int]:
        """Every major, the oldest first."""
        return sorted(major for major, _ in self.by_name.values())

    def current(self) -> list[int]:
        """The majors whose support has not ended today, the oldest first."""
        today = datetime.date.today()
        return sorted(major for major, ends in self.by_name.values() if ends >= today)


def known_lines(cache: Path | None = None) -> Lines:
    """The shipped lines, and those that were learnt since (kept in the cache, if one is given)."""
    data = tomllib.loads((Path(__file__).parent / "lines.toml").read_text("utf-8"))
    results = {line["name"]: (line["major"], line["ends"]) for line in data["line"]}
    learnt = Remembered(cache).recall(_KEY) if cache is not None else None
    for name, (major, ends) in learnt.items() if isinstance(learnt, dict) else ():
        results[name] = (int(major), datetime.date.fromisoformat(ends))
    return Lines(results)


def learn_lines(text: str, place: str, cache: Path) -> Lines:
    """Reads a release index and keeps its lines; returns all that are known now. ``place`` is where the text
    is from, for people. Raises BadInput for what is no such index; then nothing is kept."""
    rows = json_value(text, place, _REMEDY)
    results: dict[str, tuple[int, str]] = {}
    first: dict[int, int] = {}
    for row in rows if isinstance(rows, list) else ():
        version = (
            re.match(r"v?(\d+)\.\d+\.\d+", str(row.get("version", ""))) if isinstance(row, dict) else None
        )
        year = str(row.get("date", ""))[:4] if version else ""
        if version and year.isdigit():
            major = int(version.group(1))
            first[major] = min(first.get(major, 9999), int(year))
    for row in rows if first else ():
        name, version = row.get("lts"), re.match(r"v?(\d+)\.", str(row.get("version", "")))
        major = int(version.group(1)) if version else 0
        if isinstance(name, str) and re.fullmatch(r"\w+", name) and major in first:
            results[name.lower()] = (major, f"{first[major] + 3}-04-30")
    if not results:
        raise BadInput("it names no line with long-term support", place=Evidence(place), remedy=_REMEDY)
    shipped = known_lines()
    fresh: dict[str, Any] = {name: row for name, row in results.items() if name not in shipped.by_name}
    Remembered(cache).remember(_KEY, fresh)
    return known_lines(cache)
