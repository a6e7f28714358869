"""The commands of packages: what manifests name, and their links in ``.bin``."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from plainfall.confinement import Confined
from plainfall.ecosystems.node.lists.locks.package import Package
from plainfall.errors import BadInput
from plainfall.patterns import regex
from plainfall.plain_files import plain_bytes
from plainfall.reading import foreign_json

__all__ = ["bins_of", "bins_of_manifest", "bundled_bins", "link_commands"]

_BUNDLED = regex(r"((?:.+/)?node_modules)/((?:@[^/]+/)?[^/]+)/package\.json")


def link_commands(
    inside: Confined,
    root: Path,
    part: Path,
    packages: Sequence[Package],
    inner: Mapping[str, Mapping[str, str]],
) -> list[str]:
    """Links the commands of every package into the ``.bin`` of the folder that it lies in, and takes links
    away whose package is gone. Of two packages with the same command the first by place has it. ``inner`` are
    the commands of packages that lie within others (folder → name → path, from the part). Returns the names
    of those at the top."""
    wanted: dict[str, dict[str, str]] = {}
    for package in sorted(packages, key=lambda one: one.place):
        folder, _, _ = package.place.rpartition("node_modules/")
        holder = f"{folder}node_modules"
        for name, path in _bins_of(root, part, package).items():
            target = f"../{package.place[len(holder) + 1 :]}/{path}"
            wanted.setdefault(holder, {}).setdefault(name, target)
    for holder, rows in inner.items():
        for name, path in rows.items():
            wanted.setdefault(holder, {}).setdefault(name, f"../{path[len(holder) + 1 :]}")
    for holder, commands in wanted.items():
        place = inside.make_folder(root / holder / ".bin")
        for entry in list(place.iterdir()):
            if entry.is_symlink() and commands.get(entry.name) != os.readlink(entry):
                inside.remove(entry)
        for name, target in commands.items():
            link = place / name
            if not link.is_symlink():
                if link.exists():
                    inside.remove(link)
                inside.link(link, target)
    return sorted(wanted.get("node_modules", {}))


def _bins_of(root: Path, part: Path, package: Package) -> dict[str, str]:
    """The commands of a package: as the lock says, else as its own manifest does."""
    if package.bins is not None and package.link is None:
        results = {name: os.path.normpath(path) for name, path in package.bins.items()}
        return {name: path for name, path in results.items() if not path.startswith(("..", "/"))}
    folder = part / package.link if package.link is not None else root / package.place
    return bins_of_manifest(folder / "package.json")


def bundled_bins(folder: Path, names: set[str]) -> dict[str, dict[str, str]]:
    """The commands of packages that lie within this one: by the ``node_modules`` that each lies in, name to
    path (both paths from this package)."""
    results: dict[str, dict[str, str]] = {}
    for name in sorted(names):
        place = _BUNDLED.fullmatch(name)
        if place:
            for command, path in bins_of_manifest(folder / name).items():
                entire = f"{place.group(1)}/{place.group(2)}/{path}"
                if entire in names:
                    results.setdefault(place.group(1), {}).setdefault(command, entire)
    return results


def bins_of_manifest(path: Path) -> dict[str, str]:
    """The commands that a package's manifest names; none where it cannot be read."""
    try:
        document = foreign_json(plain_bytes(path), path.name)
    except (OSError, BadInput):
        return {}
    return bins_of(document) if isinstance(document, dict) else {}


def bins_of(document: Mapping[str, Any]) -> dict[str, str]:
    """The commands that a manifest names: name to path, both kept inside (a name with a slash, a path that
    climbs, are left out)."""
    value = document.get("bin")
    name = str(document.get("name", "")).rpartition("/")[2]
    pairs = {name: value} if isinstance(value, str) else value if isinstance(value, dict) else {}
    results: dict[str, str] = {}
    for key, path in pairs.items():
        plain = os.path.normpath(str(path)) if isinstance(path, str) and path else ""
        command = str(key).rpartition("/")[2]
        if plain and command and not plain.startswith(("..", "/")) and command not in (".", ".."):
            results[command] = plain
    return results
