"""The folder of a database file, where a program wants it to be there and does not say which."""

from __future__ import annotations

import ast
import os
import secrets
import subprocess
from pathlib import Path

from plainfall.confinement import Confined
from plainfall.errors import PathRefused, PlainfallError
from plainfall.onboarding.stages.starting import CommandEnded
from plainfall.onboarding.steps import Stage, Step
from plainfall.onboarding.work import Work
from plainfall.processes import run
from plainfall.server.ports import with_port

__all__ = ["made_for_database"]

_SECONDS = 20.0  # for a start that is only to tell what it opens


def made_for_database(work: Work, step: Step, error: PlainfallError) -> str:
    """Makes the missing folder of a database file that the server cannot open, in the clone or in the folder for
    temporary files, and returns that in words; "" where nothing tells which it is, or it lies elsewhere."""
    if error.rule != "database-file" or step.stage is not Stage.SERVER or not isinstance(error, CommandEnded):
        return ""
    for path in reversed(_opened(work, error.line)):
        if path.parent.exists():
            continue
        temporary = Path(os.path.realpath(work.variables().get("TMPDIR") or "/tmp"))
        clone = work.state.confined
        try:
            if path.is_relative_to(clone.root):
                work.making("folder", work.clone / path.parent.relative_to(clone.root))
                made = clone.own_folder(path.parent)
            else:
                made = Confined(temporary, "the folder for temporary files").own_folder(path.parent)
        except PathRefused:
            return ""
        return f"the folder {made} was missing, in which it opens {path.name}: it was made"
    return ""


def _opened(work: Work, command: str) -> list[Path]:
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
