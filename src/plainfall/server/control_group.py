"""Control groups (cgroups(7), version 2): what a process starts stays in its group, whatever it does to hide.

A process can leave its session, shed its environment and lose its parent; without privileges it cannot leave its
control group. Where this process may make a group below its own, each server and command gets one. Elsewhere (no
such file system, not ours to write, another system) there is none, and sessions, marks and parents have to do.
"""

from __future__ import annotations

import contextlib
import os
import time
from functools import cache
from pathlib import Path

from plainfall.patterns import regex

__all__ = ["enter_words", "kill_group", "make_group", "members", "remove_group", "sweep_groups"]

_EMPTY_FOR = 60.0  # seconds
_NAME = regex(r"plainfall-[0-9a-f]{16}")


@cache
def _own() -> Path | None:
    """This process's own group, if a group may be made in it."""
    try:
        line = next(
            row for row in Path("/proc/self/cgroup").read_text().splitlines() if row.startswith("0::")
        )
        mounts = Path("/proc/self/mountinfo").read_text().splitlines()
    except (OSError, StopIteration):
        return None
    for row in mounts:
        before, _, after = row.partition(" - ")
        if after.startswith("cgroup2 "):
            root, place = before.split()[3:5]
            inner = line[3:]
            if root != "/":
                if not f"{inner}/".startswith(f"{root}/"):
                    continue
                inner = inner[len(root) :]
            folder = Path(place + inner)
            procs = folder / "cgroup.procs"
            return folder if os.access(folder, os.W_OK) and os.access(procs, os.W_OK) else None
    return None


def make_group(mark: str) -> str:
    """A new group for a mark (16 hex digits); "" where none can be made."""
    base = _own()
    if base is None:
        return ""
    group = base / f"plainfall-{mark}"
    try:
        group.mkdir()
    except OSError:
        return ""
    return str(group)


def sweep_groups() -> None:
    """Removes groups that runs which were killed left behind, when they have been empty for a while."""
    base = _own()
    if base is None:
        return
    for group in base.glob("plainfall-*"):
        with contextlib.suppress(OSError):  # something lives in it, or it is gone
            if _is_ours(str(group)) and time.time() - group.stat().st_mtime > _EMPTY_FOR:
                group.rmdir()


def enter_words(group: str, command: str) -> list[str]:
    """The words that run a command line within a group, or plainly where there is none."""
    if not group:
        return ["/bin/sh", "-c", command]
    script = 'echo $$ 2>/dev/null >"$0/cgroup.procs"; exec /bin/sh -c "$1"'
    return ["/bin/sh", "-c", script, group, command]


def members(group: str) -> list[int]:
    """Ids of the processes in a group and in those below it; none for a group that is gone."""
    if not _is_ours(group):
        return []
    results: list[int] = []
    for folder, _, _ in os.walk(group):
        with contextlib.suppress(OSError):  # removed meanwhile
            results += [int(word) for word in Path(folder, "cgroup.procs").read_text().split()]
    return results


def kill_group(group: str) -> None:
    """Kills all that is in a group at once, where the kernel does that."""
    if _is_ours(group):
        with contextlib.suppress(OSError):  # an older kernel: the processes are killed one by one
            Path(group, "cgroup.kill").write_text("1")


def remove_group(group: str) -> None:
    """Takes an empty group away."""
    if _is_ours(group):
        for folder, _, _ in os.walk(group, topdown=False):
            with contextlib.suppress(OSError):  # something still ends in it: the next stop takes it away
                os.rmdir(folder)


def _is_ours(group: str) -> bool:
    return bool(group) and _NAME.fullmatch(os.path.basename(group)) is not None and "/cgroup" in group
