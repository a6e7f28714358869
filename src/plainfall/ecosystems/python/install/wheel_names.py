"""What the file name of a wheel states (the binary distribution format specification, version 1.0)."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from functools import lru_cache

from packaging.tags import Tag
from packaging.utils import BuildTag, InvalidWheelFilename, parse_wheel_filename
from packaging.version import InvalidVersion

__all__ = ["WheelParts", "has_wheel", "wheel_parts"]

_MOST_TAGS = 200  # the widest real ones have sixteen

WheelParts = tuple[str, str, BuildTag, frozenset[Tag]]


def wheel_parts(filename: str) -> WheelParts | None:
    """Name, version, build number and tags of a wheel's file name; None if it is not a valid one.

    >>> name, version, build, tags = wheel_parts("Rain_Desk-1.0.0-2-py3-none-any.whl")
    >>> name, version, build, sorted(map(str, tags))
    ('rain-desk', '1.0.0', (2, ''), ['py3-none-any'])
    """
    if not filename.endswith(".whl") or filename.count("-") < 4:
        return None
    what, interpreter, abi, platform = filename[: -len(".whl")].rsplit("-", 3)
    # A name stands for each pair of its pieces: 240 letters could stand for forty thousand.
    if math.prod(1 + piece.count(".") for piece in (interpreter, abi, platform)) > _MOST_TAGS:
        return None
    read, tags = _project_version_build(what), _tags(f"{interpreter}-{abi}-{platform}")
    return None if read is None or tags is None else (*read, tags)


# A page of an index names each release once for each machine, and a few hundred kinds of machine in all: read by
# halves, each half is read once.
@lru_cache(maxsize=8192)
def _project_version_build(text: str) -> tuple[str, str, BuildTag] | None:
    try:
        name, version, build, _ = parse_wheel_filename(f"{text}-py3-none-any.whl")
    except (InvalidWheelFilename, InvalidVersion):
        return None
    return name, str(version), build


@lru_cache(maxsize=2048)
def _tags(text: str) -> frozenset[Tag] | None:
    try:
        return parse_wheel_filename(f"x-1-{text}.whl")[3]
    except InvalidWheelFilename:
        return None


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
