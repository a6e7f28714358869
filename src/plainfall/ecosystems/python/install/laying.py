"""Laying a cached wheel into an environment, and taking one out, by the wheel and RECORD specifications.

RECORD is written first and INSTALLER last: a distribution that has the one and not the other was being
laid or taken out when something stopped us, and its RECORD says what to remove.
"""

from __future__ import annotations

import base64
import csv
import hashlib
import io
import os
from collections.abc import Collection, Iterator
from pathlib import Path
from typing import Any

from msgspec import Struct

from plainfall.confinement import Confined
from plainfall.ecosystems.python.install.wheel import ENVIRONMENT_PROGRAMS
from plainfall.ecosystems.python.runtime.environment import VirtualEnvironment
from plainfall.errors import PathRefused
from plainfall.packages.cache import CachedTree
from plainfall.packages.placing import Folders, Placement, place_files, remove_empty_folders
from plainfall.plain_files import plain_bytes, plain_digest, plain_text

__all__ = [
    "INSTALLER",
    "Installed",
    "installed_distributions",
    "is_complete",
    "lay_wheel",
    "path_of_row",
    "recorded_paths",
    "take_out",
]

INSTALLER = "plainfall"
_LONGEST_FIRST_LINE = 127  # Linux cuts a script's first line here (BINPRM_BUF_SIZE)

_LARGEST_PROGRAM = 1 << 30  # bytes of a program that a wheel has among its scripts: whole tools are


class Installed(Struct, frozen=True):
    """A distribution found in an environment: its .dist-info folder's name, and who put it there (empty
    if it is incomplete)."""

    dist_info: str
    installer: str

    @property
    def key(self) -> tuple[str, str]:
        """Name and version, as the folder's name states them (normalised enough to compare)."""
        name, _, version = self.dist_info.removesuffix(".dist-info").partition("-")
        return name.lower().replace("_", "-").replace(".", "-"), version


def installed_distributions(environment: VirtualEnvironment) -> list[Installed]:
    """What is installed, sorted by folder name; an environment without the folder has none."""
    try:
        names = sorted(
            entry.name for entry in os.scandir(environment.packages) if entry.name.endswith(".dist-info")
        )
    except FileNotFoundError:
        return []
    results = []
    for name in names:
        try:
            installer = plain_text(environment.packages / name / "INSTALLER", "utf-8").strip()
        except FileNotFoundError:
            info = environment.packages / name
            half = (info / "RECORD").exists() or not (info / "METADATA").exists()
            installer = "" if half else "unknown"
        results.append(Installed(name, installer))
    return results


def lay_wheel(
    environment: VirtualEnvironment,
    tree: CachedTree,
    folders: Folders,
    *,
    requested: bool,
    direct_url: str | None = None,
    not_laid: Collection[str] = (),
) -> None:
    """Places every file of the wheel and writes scripts, RECORD and INSTALLER. ``folders`` makes those of this
    environment; ``not_laid`` are paths (from site-packages) that are another distribution's. Raises OSError and
    PathRefused; what is laid by then is found again as incomplete."""
    facts = tree.facts
    confined = Confined(environment.folder, "the environment")
    info = str(facts["dist_info"])
    source, target = f"{tree.folder}/", f"{environment.packages}/"
    left_out = {f"{info}/{name}" for name in ("RECORD", "INSTALLER", "REQUESTED", "direct_url.json")}
    moved, scripts, rows = _moved(environment, facts, source, not_laid)
    left_out.update(str(row[2]) for row in facts["moved"])
    left_out.update(not_laid)
    for name, module, attribute, _ in facts["entries"]:
        if f"../../../bin/{name}" not in not_laid:
            scripts[name] = _entry_script(environment, module, attribute)
    extra = {f"{info}/REQUESTED": b""} if requested else {}
    if direct_url is not None:
        extra[f"{info}/direct_url.json"] = direct_url.encode()
    rows += [_row(f"../../../bin/{name}", content) for name, content in scripts.items()]
    rows += [_row(path, content) for path, content in extra.items()]
    rows.append(_row(f"{info}/INSTALLER", f"{INSTALLER}\n".encode()))
    rows.append([f"{info}/RECORD", "", ""])
    rest = str(facts["record"]).splitlines()
    record = "".join(f"{line}\n" for line in rest if path_of_row(line) not in not_laid)
    folder = environment.packages / info
    folders.make(str(folder))
    # A RECORD without an INSTALLER tells that the rest was not laid to its end.
    confined.write(folder / "RECORD", (record + _csv(rows)).encode("utf-8", "replace"))
    place_files(
        (
            Placement(source + file.path, target + file.path)
            for file in tree.files
            if file.path not in left_out
        ),
        folders,
    )
    place_files(moved, folders)
    for name, content in scripts.items():
        confined.write(environment.commands / name, content, mode=0o755)
    for path, content in extra.items():
        confined.write(environment.packages / path, content)
    confined.write(folder / "INSTALLER", f"{INSTALLER}\n")


def path_of_row(line: str) -> str:
    """The path of a row of RECORD. Nearly none holds a comma or a quote; the csv module is for those that do."""
    return next(csv.reader([line]), [""])[0] if '"' in line else line.partition(",")[0]


def recorded_paths(environment: VirtualEnvironment, dist_info: str) -> Iterator[str]:
    """The paths that a distribution's RECORD lists, as written there; none if it has no RECORD."""
    record = environment.packages / dist_info / "RECORD"
    text = plain_text(record, "utf-8", "replace") if record.exists() else ""
    for line in text.splitlines():
        path = path_of_row(line)
        if path:
            yield path


def is_complete(environment: VirtualEnvironment, dist_info: str) -> bool:
    """Whether every file that RECORD lists exists, bytecode aside."""
    root = f"{environment.packages}/"
    return all(
        os.path.lexists(root + path)
        for path in recorded_paths(environment, dist_info)
        if not path.endswith(".pyc")
    )


def take_out(environment: VirtualEnvironment, dist_info: str, others: Collection[str] = ()) -> int:
    """Removes a distribution by its RECORD, INSTALLER first and RECORD last; returns how many files went.
    What RECORD lists outside of the environment is not touched, nor what ``others`` have (paths from
    site-packages), nor the environment's own files."""
    confined = Confined(environment.folder, "the environment")
    folder = environment.packages / dist_info
    confined.remove(folder / "INSTALLER")
    root = str(environment.folder)
    folders = set()
    count = 0
    record = folder / "RECORD"
    for row in recorded_paths(environment, dist_info):
        path = os.path.normpath(os.path.join(environment.packages, row))
        if not path.startswith(root + os.sep) or path == str(record) or row in others:
            continue
        if _is_of_environment(os.path.relpath(path, root)) or (
            os.path.isdir(path) and not os.path.islink(path)
        ):
            continue
        try:
            count += confined.remove(path)
        except PathRefused:
            continue  # it lies behind a link that leads out, and is not ours
        folders.add(os.path.dirname(path))
    remove_empty_folders(folders, environment.packages)
    confined.remove(folder)
    return count


def _is_of_environment(path: str) -> bool:
    """Whether a path is a part of the environment itself: no distribution may remove it."""
    folder, _, name = path.rpartition("/")
    return path.lower() == "pyvenv.cfg" or (
        folder == "bin" and ENVIRONMENT_PROGRAMS.fullmatch(name) is not None
    )


def _moved(
    environment: VirtualEnvironment, facts: dict[str, Any], source: str, not_laid: Collection[str]
) -> tuple[list[Placement], dict[str, bytes], list[list[str]]]:
    """What the wheel's ``.data`` folder puts elsewhere: plain files, rewritten scripts, RECORD rows."""
    places = {
        "purelib": environment.packages,
        "platlib": environment.packages,
        "headers": environment.headers / str(facts["name"]),
        "data": environment.folder,
    }
    placements: list[Placement] = []
    scripts: dict[str, bytes] = {}
    rows: list[list[str]] = []
    for scheme, path, within, _ in facts["moved"]:
        if scheme == "scripts":
            if f"../../../bin/{path}" not in not_laid:
                content = plain_bytes(Path(source + within), largest=_LARGEST_PROGRAM)
                scripts[path] = _with_first_line(environment, content)
            continue
        target = places[scheme] / path
        if os.path.relpath(target, environment.packages) in not_laid:
            continue
        placements.append(Placement(source + within, str(target)))
        file = Path(source + within)
        digest, size = plain_digest(file), os.stat(file).st_size
        rows.append(_row_of(os.path.relpath(target, environment.packages), digest, size))
    return placements, scripts, rows


def _with_first_line(environment: VirtualEnvironment, content: bytes) -> bytes:
    """A script of the wheel whose first line is ``#!python…`` gets this environment's interpreter."""
    if not content.startswith(b"#!python"):
        return content
    rest = content.partition(b"\n")[2]
    return _first_line(environment) + rest


def _entry_script(environment: VirtualEnvironment, module: str, attribute: str) -> bytes:
    body = (
        "import sys\n\n"
        f"from {module} import {attribute.split('.')[0]}\n\n"
        'if __name__ == "__main__":\n'
        f"    sys.exit({attribute}())\n"
    )
    return _first_line(environment) + body.encode()


def _first_line(environment: VirtualEnvironment) -> bytes:
    python = str(environment.python)
    if " " in python or len(python) + 3 > _LONGEST_FIRST_LINE:
        # The kernel would cut such a line; to sh this is a command, to Python a string.
        return f"#!/bin/sh\n'''exec' \"{python}\" \"$0\" \"$@\"\n' '''\n".encode()
    return f"#!{python}\n".encode()


def _row(path: str, content: bytes) -> list[str]:
    return _row_of(path, hashlib.sha256(content).digest(), len(content))


def _row_of(path: str, digest: bytes, size: int) -> list[str]:
    """A row of RECORD (the specification "Recording installed projects")."""
    return [path, f"sha256={base64.urlsafe_b64encode(digest).rstrip(b'=').decode()}", str(size)]


def _csv(rows: list[list[str]]) -> str:
    text = io.StringIO()
    csv.writer(text, lineterminator="\n").writerows(rows)
    return text.getvalue()
