"""The wheel tags that an interpreter accepts (PEP 425, 600, 656), from its facts, best first."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Any

from packaging.tags import Tag, compatible_tags, cpython_tags, mac_platforms

from plainfall.processes import run

__all__ = ["supported_tags"]

# PEP 600: the oldest glibc for which perennial tags are made, and the names that came before it.
_OLDEST_GLIBC = 5
_LEGACY = {17: "manylinux2014", 12: "manylinux2010", 5: "manylinux1"}
_LEGACY_MACHINES = {"manylinux2010": {"x86_64", "i686"}, "manylinux1": {"x86_64", "i686"}}


def supported_tags(facts: Mapping[str, Any]) -> list[Tag]:
    """All tags for an interpreter's facts (as ``interpreters.ask_python`` gives them), best first."""
    major, minor = (int(number) for number in facts["version"].split(".")[:2])
    platforms = list(_platforms(facts))
    soabi = str(facts["soabi"])
    abis = None
    if facts["implementation"] == "cpython":
        suffix = "t" if facts["threads_free"] else ""
        flags = "m" if (major, minor) < (3, 8) and "m" in str(facts["abiflags"]) else ""
        debug = "d" if facts["debug"] else ""
        abis = [f"cp{major}{minor}{suffix}{debug}{flags}"]
        tags = list(cpython_tags((major, minor), abis, platforms))
    else:
        first = soabi.split("-")
        tags = [Tag(f"pp{major}{minor}", "_".join(first[:2]).replace("-", "_"), name) for name in platforms]
    interpreter = tags[0].interpreter if tags else f"py{major}{minor}"
    tags.extend(compatible_tags((major, minor), interpreter, platforms))
    return list(dict.fromkeys(tags))


def _platforms(facts: Mapping[str, Any]) -> Iterator[str]:
    name = re.sub(r"[.-]", "_", str(facts["platform"]))
    if name.startswith("linux_"):
        machine = name.removeprefix("linux_")
        if facts["bits"] == 32:
            machine = {"x86_64": "i686", "aarch64": "armv8l"}.get(machine, machine)
        yield from _linux(machine, str(facts["libc"]), str(facts["musl"]))
        yield f"linux_{machine}"
    elif name.startswith("macosx_"):
        machine = str(facts["markers"]["platform_machine"])
        release = str(facts["mac_version"]).split(".")
        version = (int(release[0]), int(release[1]) if len(release) > 1 else 0)
        yield from mac_platforms(version, machine)
    else:
        yield name


def _linux(machine: str, libc: str, musl: str) -> Iterator[str]:
    glibc = re.match(r"glibc (\d+)\.(\d+)", libc)
    if glibc:
        major, newest = int(glibc.group(1)), int(glibc.group(2))
        oldest = _OLDEST_GLIBC if machine in ("x86_64", "i686") else 17
        for minor in range(newest, oldest - 1, -1):
            yield f"manylinux_{major}_{minor}_{machine}"
            legacy = _LEGACY.get(minor)
            if legacy and machine in _LEGACY_MACHINES.get(legacy, {machine}):
                yield f"{legacy}_{machine}"
    elif musl:
        text = run([musl], {}, seconds=10).errors
        version = re.search(r"Version (\d+)\.(\d+)", text)
        if version:
            for minor in range(int(version.group(2)), -1, -1):
                yield f"musllinux_{version.group(1)}_{minor}_{machine}"
