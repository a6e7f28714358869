"""Small programs of ours, under the names by which a project's commands call a language's clients: they stand first
on the path of a part's commands."""

from __future__ import annotations

import os
import shlex
import sys
from collections.abc import Iterable
from pathlib import Path
from urllib.parse import quote

from plainfall.confinement import Confined
from plainfall.ecosystems.shape import CloneAccess
from plainfall.plain_files import plain_text
from plainfall.writing import digest_of

__all__ = [
    "names_folder",
    "names_place",
    "own_folder",
    "own_place",
    "write_client_names",
    "write_program",
]


def names_folder(folder: Path, access: CloneAccess) -> Path:
    """A part's folder of command names, in what Plainfall keeps in the clone."""
    return own_folder("commands", folder, access)


def names_place(inner: str) -> str:
    """That folder, from the clone's top, of the part in the folder ``inner`` of the clone."""
    return own_place("commands", inner)


def own_place(kind: str, inner: str) -> str:
    """A folder of that kind of ours, from the clone's top, for the part in the folder ``inner`` of the clone."""
    name = quote(os.fsencode(inner), safe="") if inner else "top"
    return f".plainfall/{kind}/{digest_of(name) if len(name) > 200 else name}"


def own_folder(kind: str, folder: Path, access: CloneAccess) -> Path:
    """That folder of the part in ``folder`` (a path of this machine)."""
    root = access.confined.root
    inner = Path(os.path.realpath(folder)).relative_to(root).as_posix()
    return root / own_place(kind, "" if inner == "." else inner)


def write_program(confined: Confined, file: Path, text: str) -> None:
    """Writes a program, where it is not there as it should be."""
    if file.is_symlink() or not file.is_file() or plain_text(file, "utf-8", "replace") != text:
        confined.write(file, text, mode=0o755)


def write_client_names(
    confined: Confined, folder: Path, module: str, names: Iterable[str], *, keeping: str = ""
) -> None:
    """Writes a small file for each name into a folder of the clone (made if it does not exist): it runs ``module``
    of ours, with its own name as the first word. ``keeping`` is the variable in which that finds the caller's own
    PYTHONPATH ("": none)."""
    source = shlex.quote(str(Path(__file__).parents[3]))
    kept = f'{keeping}="${{PYTHONPATH-}}" ' if keeping else ""
    for name in names:
        words = shlex.join([sys.executable, "-m", module, name])
        write_program(confined, folder / name, f'#!/bin/sh\n{kept}PYTHONPATH={source} exec {words} "$@"\n')
