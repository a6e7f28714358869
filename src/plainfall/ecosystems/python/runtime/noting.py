"""Python that tells which database files it opens: for those that it cannot, since their folder is missing."""

from __future__ import annotations

from pathlib import Path

from plainfall.confinement import Confined

__all__ = ["noting_databases"]

# Run by every Python that the command starts. Audit events: PEP 578; older ones have none, and tell nothing.
_HOOK = '''\
"""Made by Plainfall for one run: prints the paths of the database files that are opened."""

import os
import sys


def _note(event, arguments):
    if event == "sqlite3.connect" and arguments:
        print(os.environ["PLAINFALL_NOTES"] + repr(os.path.abspath(os.fsdecode(arguments[0]))), file=sys.stderr)


if hasattr(sys, "addaudithook"):
    sys.addaudithook(_note)
'''


def noting_databases(folder: Path, confined: Confined, mark: str) -> dict[str, str]:
    """Variables that make each Python print a line on its errors for each database that it opens: the mark, and
    the path as a literal. Writes the hook into the folder."""
    confined.write(folder / "sitecustomize.py", _HOOK)
    return {"PYTHONPATH": str(folder), "PLAINFALL_NOTES": mark}
