"""Routes that a framework's own command lists: what a person could open without knowing anything."""

from __future__ import annotations

import shlex
import subprocess
from collections.abc import Iterator
from typing import Any

from plainfall.errors import BadInput
from plainfall.onboarding.work import Work
from plainfall.processes import run
from plainfall.reading import foreign_json
from plainfall.server.page import ENDS

__all__ = ["listed_routes"]

_SECONDS = 30.0  # that the command may take
_METHODS = ("GET", "ANY")


def listed_routes(work: Work) -> list[str]:
    """The paths that answer to GET and have no value to fill in, in the command's order; empty where no framework
    of the part has such a command, or it fails."""
    line = next((one.routes for one in work.part.frameworks if one.routes), "")
    if not line or work.standing().state != "right":
        return []
    work.prepare()
    try:
        done = run(shlex.split(line), work.variables(), folder=work.folder, seconds=_SECONDS)
        start = min((place for sign in "[{" if (place := done.output.find(sign)) >= 0), default=0)
        document = foreign_json(done.output[start:].encode(), line)
    except (OSError, subprocess.TimeoutExpired, BadInput):
        return []
    paths = dict.fromkeys(f"/{path.strip('/')}" for path in _paths(document))
    return [path for path in paths if path != "/" and not ENDS.search(path)]


def _paths(document: Any) -> Iterator[str]:
    """Of a list of routes (``method``, ``uri``), or a table of them by name (``method``, ``path``)."""
    rows = document.values() if isinstance(document, dict) else document if isinstance(document, list) else ()
    for row in rows:
        if not isinstance(row, dict):
            continue
        path, methods = str(row.get("uri", row.get("path", ""))), str(row.get("method", "")).split("|")
        internal = path.lstrip("/").startswith("_")
        if path and not internal and "{" not in path and any(one in methods for one in _METHODS):
            yield path
