"""A limit on this program's own memory, so that a file that was made to fill it ends a run with a message and
not the machine with it. Processes that are started get the person's own limits back.

Where the system has no such limit for the data of a process, or none that can be given back (macOS), there is none.
"""

from __future__ import annotations

import contextlib
import os
import resource
from collections.abc import Mapping

from plainfall.errors import MemoryExhausted

__all__ = ["exhausted", "give_back", "give_back_own", "limit_memory"]

VARIABLE = "PLAINFALL_MEMORY"
_MIB = 1 << 20
_LIMIT = 2048  # MiB; the largest clones take some 200
_own: list[tuple[int, int]] = []  # the limits that this process was started with


def limit_memory(variables: Mapping[str, str]) -> None:
    """Limits the data of this process and its workers (setrlimit(2), RLIMIT_DATA) to 2 GiB, or to as many MiB
    as the variable says; one that is there and lower stays."""
    if not hasattr(resource, "prlimit") or _own:
        return
    soft, hard = resource.getrlimit(resource.RLIMIT_DATA)
    text = variables.get(VARIABLE, "")
    wanted = (int(text) if text.isascii() and text.isdigit() and 0 < int(text) < 1 << 30 else _LIMIT) * _MIB
    known = [one for one in (soft, hard) if one != resource.RLIM_INFINITY]
    if any(one <= wanted for one in known):
        return
    with contextlib.suppress(OSError, ValueError):
        resource.setrlimit(resource.RLIMIT_DATA, (wanted, hard))
        _own.append((soft, hard))


def give_back(pid: int) -> None:
    """Gives a process that was started the limits that this one had at first."""
    if _own and pid != os.getpid():
        with contextlib.suppress(
            OSError
        ):  # it has ended, or runs as another user who has the limit of the system
            resource.prlimit(pid, resource.RLIMIT_DATA, _own[0])


def give_back_own() -> None:
    """Gives this process the limits that it had at first, before it becomes another program (execve(2))."""
    if _own:
        with contextlib.suppress(OSError, ValueError):
            resource.setrlimit(resource.RLIMIT_DATA, _own[0])


def exhausted() -> MemoryExhausted:
    """The error for a limit that was hit."""
    soft, _ = resource.getrlimit(resource.RLIMIT_DATA)
    limit = (
        f"the limit of {soft // _MIB:,} MiB" if soft != resource.RLIM_INFINITY else "what this machine has"
    )
    return MemoryExhausted(
        f"more memory would be needed than {limit}: a file of the clone, or an answer, is very large",
        remedy=f"See with --verbose what was read last. If it is right for you, raise the limit: {VARIABLE}=MIB.",
    )
