"""Which database files a start command opens, as its runtime tells."""

from __future__ import annotations

import ast
import os
import secrets
import subprocess
from pathlib import Path

from plainfall.onboarding.part.work import Work
from plainfall.processes import run
from plainfall.server.ports import with_port

__all__ = ["databases_opened"]

_SECONDS = 20.0  # for a start that is only to tell what it opens


def databases_opened(work: Work, command: str) -> list[Path]:
    """The database files that a start command opens before it ends, as its runtime tells."""
    mark = f"{secrets.token_hex(8)} "
    folder = work.state.folder / "tools" / work.state.name_of(work.part.key) / "notes"
    more = work.environment.noting_databases(folder, work.access(), mark)
    if not more:
        return []
    variables = work.variables()
    for name, value in more.items():
        variables[name] = os.pathsep.join(filter(None, (value, variables.get(name, ""))))
    port = work.settled_by().ports[work.part.key]
    line, _ = with_port(command, port)
    variables |= {"PORT": str(port)}
    try:
        done = run(["/bin/sh", "-c", line], variables, folder=work.folder, seconds=_SECONDS)
    except (OSError, subprocess.TimeoutExpired):
        return []
    notes = [one.removeprefix(mark) for one in done.errors.splitlines() if one.startswith(mark)]
    return [path for one in notes if (path := _path(one)) is not None]


def _path(literal: str) -> Path | None:
    """The path of a note; None for what is none: the program could write such a line itself."""
    try:
        value = ast.literal_eval(literal)
    except (ValueError, SyntaxError, MemoryError, RecursionError):
        return None
    return Path(value) if isinstance(value, str) and value.startswith("/") and "\0" not in value else None
