"""Archives that a clone carries: read from inside of it alone."""

from __future__ import annotations

import os
import stat
from pathlib import Path

from plainfall.errors import DependencyProblem
from plainfall.evidence import Evidence
from plainfall.packages.answers import LIMITS
from plainfall.plain_files import plain_bytes

__all__ = ["archive_of_clone"]


def archive_of_clone(part: Path, clone: Path, name: str, place: Evidence | None = None) -> bytes:
    """The bytes of an archive that a list names from a part's folder. Raises DependencyProblem for one outside of
    the clone, or that is no plain file."""
    path, top = Path(os.path.realpath(part / name)), Path(os.path.realpath(clone))
    problem = "it is outside the clone" if not path.is_relative_to(top) else ""
    try:
        status = os.stat(path)
        if not problem and (not stat.S_ISREG(status.st_mode) or status.st_size > LIMITS.in_memory):
            problem = "it is not a plain file, or too large"
        if not problem:
            return plain_bytes(path)
    except OSError as error:
        problem = error.strerror or str(error)
    raise DependencyProblem(
        f"{name[:200]} cannot be read: {problem}",
        place=place or Evidence(name[:200]),
        remedy="Restore it, or take it out.",
    )
