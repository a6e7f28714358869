"""Routes that a framework's own command lists: what a person could open without knowing anything."""

from __future__ import annotations

import re
import shlex
import subprocess
from collections.abc import Iterator
from typing import Any

from plainfall.errors import BadInput
from plainfall.onboarding.part.work import Work
from plainfall.patterns import regex
from plainfall.processes import run
from plainfall.reading import foreign_json
from plainfall.server.page import ENDS

__all__ = ["listed_routes"]

_SECONDS = 30.0  # that the command may take
_METHODS = ("GET", "ANY")

# A row of Rails' table: its name or none, the methods, the path, what answers. The framework's own are left out.
_ROW = regex(r"^[ \t]*(?:\w+[ \t]+)?([A-Z|]+)[ \t]+(/\S*)[ \t]+(\S+)", re.MULTILINE)
_OPTIONAL = regex(r"\([^()]*\)")
_OWN = regex(r"(rails|active_storage|action_mailbox|turbo)/")


def listed_routes(work: Work) -> list[str]:
    """The paths that answer to GET and have no value to fill in, in the command's order; empty where no framework
    of the part has such a command, or it fails."""
    line = next((one.routes for one in work.part.frameworks if one.routes), "")
    if not line or work.standing().state != "right":
        return []
    work.prepare()
    try:
        done = run(shlex.split(line), work.variables(), folder=work.folder, seconds=_SECONDS)
        rows = _document(done.output, line) if "json" in line else _table(done.output)
        paths = dict.fromkeys(f"/{path.strip('/')}" for path in rows)
    except (OSError, subprocess.TimeoutExpired, BadInput):
        return []
    return [path for path in paths if path != "/" and not ENDS.search(path)]


def _table(text: str) -> Iterator[str]:
    for methods, path, answers in _ROW.findall(text):
        plain = _OPTIONAL.sub("", path)
        if "GET" in methods.split("|") and not re.search(r"[:*(]", plain) and not _OWN.match(answers):
            yield plain


def _document(text: str, line: str) -> Iterator[str]:
    start = min((place for sign in "[{" if (place := text.find(sign)) >= 0), default=0)
    return _paths(foreign_json(text[start:].encode(), line))


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
