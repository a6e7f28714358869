"""The programs of installed packages: small files in the folder of programs that run them."""

from __future__ import annotations

import os
import posixpath
import re
from collections.abc import Sequence
from pathlib import Path

from plainfall.confinement import Confined
from plainfall.ecosystems.php.install.autoload import Laid
from plainfall.ecosystems.php.install.loader import php_text
from plainfall.ecosystems.php.lists.manifests import strings
from plainfall.plain_files import opened_plain
from plainfall.repository import repository_of

__all__ = ["write_bins"]


def write_bins(
    confined: Confined, part: Path, packages: Sequence[Laid], folder: str, vendor: str, before: Sequence[str]
) -> list[str]:
    """Writes the programs of all packages, takes those away that were written before and belong to none now;
    returns their names. A name that two packages have goes to the first."""
    names: dict[str, tuple[str, str]] = {}
    for one in packages:
        for path in strings(one.entry.get("bin")):
            plain = posixpath.normpath(path)
            if plain.startswith(("/", "..")) or not re.fullmatch(r"[\w.+-]+", posixpath.basename(plain)):
                continue  # a program outside of its package is none of it
            names.setdefault(posixpath.basename(plain), (f"{one.folder}/{plain}", one.name))
    for name in {*before} - {*names}:
        if re.fullmatch(r"[\w.+-]+", name) and _is_ours(part / folder / name):
            confined.remove(part / folder / name)
    repository = repository_of(confined.root)
    for name, (path, _) in list(names.items()):
        file, place = part / path, part / folder / name
        inside = folder == vendor or folder.startswith(f"{vendor}/")
        is_tracked = repository is not None and repository.is_tracked(place)
        if is_tracked or (os.path.lexists(place) and not inside and not _is_ours(place)):
            del names[name]  # a program of the project's own under that name stays
        elif file.is_file():
            text = _proxy(file, posixpath.relpath(path, folder), posixpath.relpath(vendor, folder))
            confined.write(part / folder / name, text, mode=0o755)
    return sorted(names)


def _is_ours(file: Path) -> bool:
    if file.is_symlink() or not file.is_file():
        return False
    with opened_plain(file) as opened:
        return b"Written by Plainfall" in opened.read(400)


def _proxy(file: Path, target: str, vendor: str) -> str:
    with opened_plain(file) as opened:
        start = opened.read(500)
    if re.match(rb"(#!.*\bphp[\d.]*\b.*\n)?\s*<\?php", start):
        return (
            "#!/usr/bin/env php\n<?php\n\n// Written by Plainfall: runs a program of an installed package.\n\n"
            "$GLOBALS['_composer_bin_dir'] = __DIR__;\n"
            f"$GLOBALS['_composer_autoload_path'] = __DIR__ . {php_text(f'/{vendor}/autoload.php')};\n\n"
            f"return include __DIR__ . {php_text(f'/{target}')};\n"
        )
    quoted = target.replace("'", "'\\''")
    return (
        "#!/bin/sh\n# Written by Plainfall: runs a program of an installed package.\n"
        'here=$(CDPATH= cd -- "$(dirname -- "$0")" && pwd)\n'
        'COMPOSER_RUNTIME_BIN_DIR="$here"; export COMPOSER_RUNTIME_BIN_DIR\n'
        f'exec "$here"/\'{quoted}\' "$@"\n'
    )
