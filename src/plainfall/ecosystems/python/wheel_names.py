"""What the file name of a wheel states (the binary distribution format specification, version 1.0)."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

from packaging.utils import InvalidWheelFilename, parse_wheel_filename
from packaging.version import InvalidVersion

__all__ = ["has_wheel", "wheel_parts"]


def wheel_parts(filename: str) -> tuple[str, str, tuple[object, ...], frozenset[Any]] | None:
    """Name, version, build number and tags of a wheel's file name; None if it is not a valid one."""
    try:
        name, version, build, tags = parse_wheel_filename(filename)
    except (InvalidWheelFilename, InvalidVersion):
        return None
    return name, str(version), build, tags


def has_wheel(filenames: Sequence[str], version: str) -> bool:
    """Whether one of the archives is a wheel for that version of Python, by its interpreter and ABI tags
    alone (the platform is the same for every interpreter of a machine)."""
    major, minor = (int(number) for number in re.findall(r"\d+", version)[:2])
    for filename in filenames:
        parts = wheel_parts(filename)
        for tag in parts[3] if parts else ():
            if tag.interpreter in (f"py{major}", f"py{major}{minor}", f"cp{major}{minor}"):
                return True
            older = re.fullmatch(rf"cp{major}(\d+)", tag.interpreter)
            if tag.abi == "abi3" and older and int(older.group(1)) <= minor:
                return True
    return False
