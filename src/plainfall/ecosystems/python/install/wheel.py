"""Wheels (the binary distribution format specification, version 1.0): what one holds, read once."""

from __future__ import annotations

import configparser
import csv
import re
from pathlib import Path
from typing import Any

from packaging.utils import canonicalize_name

from plainfall.errors import ArchiveRefused
from plainfall.packages.unpacking import Unpacked
from plainfall.patterns import regex
from plainfall.plain_files import plain_text

__all__ = ["ENVIRONMENT_PROGRAMS", "describe_wheel"]

_SCHEMES = {"purelib", "platlib", "headers", "scripts", "data"}
# What an environment has in its folder of programs: interpreters and what activates it; python-gauges is a name
# as any.
ENVIRONMENT_PROGRAMS = regex(
    r"(?:python|pythonw|pypy)\d*(?:\.\d+)*[dmtu]?(?:\.exe)?|(?:de)?activate(?:\.\w+)?|activate_this\.py",
    re.IGNORECASE,
)
_LARGEST = 32 * 1024**2  # bytes of a file that describes a wheel
_ENTRY = regex(r"^\s*([\w.]+)\s*(?::\s*([\w.]+))?\s*(\[.*\])?\s*$")


def describe_wheel(folder: Path, files: list[Unpacked]) -> dict[str, Any]:
    """The facts that laying needs, for the cache's manifest (all JSON):

    ``name``, ``version``, ``dist_info`` (the folder's name), ``record`` (RECORD's rows for files that stay
    where they are), ``moved`` ([scheme, path within it, path in the wheel, is executable]), ``entries``
    ([command, module, attribute, "console" or "gui"]), ``requires_python``, ``requires``
    (the Requires-Dist lines). Raises ArchiveRefused if the
    wheel breaks its specification.
    """
    infos = {path.path.split("/")[0] for path in files if path.path.split("/")[0].endswith(".dist-info")}
    if len(infos) != 1:
        raise ArchiveRefused(f"the wheel has {len(infos)} .dist-info folders, not one")
    info = infos.pop()
    for file in files:
        if file.path.startswith(f"{info}/") and file.size > _LARGEST:
            raise ArchiveRefused(f"{file.path} of {file.size:,} bytes is larger than any such file")
    wheel = _headers(folder / info / "WHEEL", info)
    if wheel.get("wheel-version", "1").partition(".")[0] != "1":
        raise ArchiveRefused(f"{info} is of wheel version {wheel['wheel-version']}; 1 is known here")
    metadata = _headers(folder / info / "METADATA", info)
    moved, moved_paths = _moved(info.removesuffix(".dist-info") + ".data/", files)
    return {
        "name": canonicalize_name(metadata.get("name", "")),
        "version": metadata.get("version", ""),
        "dist_info": info,
        "record": _record(folder / info / "RECORD", info, moved_paths, {file.path for file in files}),
        "moved": moved,
        "entries": _entries(folder / info / "entry_points.txt", info),
        "requires_python": metadata.get("requires-python", ""),
        "requires": [
            line.partition(":")[2].strip()
            for line in plain_text(folder / info / "METADATA", "utf-8", "replace")
            .split("\n\n")[0]
            .splitlines()
            if line.lower().startswith("requires-dist:")
        ],
    }


def _headers(path: Path, info: str) -> dict[str, str]:
    try:
        text = plain_text(path, "utf-8", "replace")
    except FileNotFoundError as error:
        raise ArchiveRefused(f"{info} holds no {path.name} file, which every wheel must have") from error
    headers: dict[str, str] = {}
    for line in text.split("\n\n")[0].splitlines():
        key, joined, value = line.partition(":")
        if joined and not line.startswith((" ", "\t")):
            headers.setdefault(key.strip().lower(), value.strip())
    return headers


def _moved(data: str, files: list[Unpacked]) -> tuple[list[list[Any]], set[str]]:
    moved = []
    paths = set()
    for file in files:
        if file.path.startswith(data):
            scheme, _, rest = file.path[len(data) :].partition("/")
            if scheme not in _SCHEMES or not rest:
                raise ArchiveRefused(f"the wheel puts {file.path!r} into an unknown place {scheme!r}")
            if _is_foreign(scheme, rest):
                raise ArchiveRefused(
                    f"the wheel holds {file.path!r}, which would replace a part of the environment or of another "
                    "package",
                    remedy="Nothing of it was used. Do not install it by other means either; tell its publisher.",
                )
            moved.append([scheme, rest, file.path, bool(file.mode & 0o111)])
            paths.add(file.path)
    return moved, paths


def _is_foreign(scheme: str, path: str) -> bool:
    """Whether a wheel's file would go where the environment's own or another distribution's files are."""
    top = path.partition("/")[0]
    if scheme == "scripts":
        return "/" in path or ENVIRONMENT_PROGRAMS.fullmatch(path) is not None
    if scheme == "data":
        return (
            path.lower() == "pyvenv.cfg"
            or (top == "bin" and ENVIRONMENT_PROGRAMS.fullmatch(path[4:]) is not None)
            or re.match(r"(lib|lib64)/python[^/]*/", path, re.IGNORECASE) is not None
        )
    return scheme in ("purelib", "platlib") and top.endswith((".dist-info", ".egg-info"))


def _record(path: Path, info: str, moved: set[str], expected: set[str]) -> str:
    """The rows for files that the wheel holds and that stay where they are; whatever else it lists is not its
    own."""
    left_out = {f"{info}/{name}" for name in ("RECORD", "INSTALLER", "REQUESTED", "direct_url.json")} | moved
    try:
        text = plain_text(path, "utf-8", "replace")
    except FileNotFoundError as error:
        raise ArchiveRefused(f"{info} holds no RECORD file, which every wheel must have") from error
    rows = []
    for line in text.splitlines():
        try:
            name = next(csv.reader([line]), [""])[0] if line.startswith('"') else line.partition(",")[0]
        except csv.Error:
            continue
        if name in expected and name not in left_out:
            rows.append(line)
    return "\n".join(rows) + "\n" if rows else ""


def _entries(path: Path, info: str) -> list[list[str]]:
    if not path.exists():
        return []
    parser = configparser.RawConfigParser(delimiters=("=",), strict=False)
    parser.optionxform = lambda optionstr: optionstr  # type: ignore[method-assign]
    try:
        parser.read_string(plain_text(path, "utf-8"))
    except (configparser.Error, UnicodeDecodeError) as error:
        raise ArchiveRefused(f"the entry points of {info} cannot be read: {error}") from error
    entries = []
    for section, kind in (("console_scripts", "console"), ("gui_scripts", "gui")):
        for name, value in parser.items(section) if parser.has_section(section) else ():
            match = _ENTRY.match(value)
            plain = re.fullmatch(r"[^/\\\0-\x1f]{1,200}", name) and name not in (".", "..")
            if not match or not match.group(2) or not plain or _is_foreign("scripts", name):
                raise ArchiveRefused(f"{info} names a command {name!r} = {value!r}, which is not valid")
            entries.append([name, match.group(1), match.group(2), kind])
    return entries
