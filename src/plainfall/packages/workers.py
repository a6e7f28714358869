"""Worker processes that unpack and lay packages: they end with the process that started them, however it ends."""

from __future__ import annotations

import ctypes
import multiprocessing
import os
import signal
import sys
from concurrent.futures import ProcessPoolExecutor

__all__ = ["can_fork", "worker_pool"]

_PR_SET_PDEATHSIG = 1  # prctl(2)


def can_fork() -> bool:
    """Whether this system has processes that are forked."""
    return "fork" in multiprocessing.get_all_start_methods()


def worker_pool(count: int) -> ProcessPoolExecutor:
    """A pool of forked processes."""
    return ProcessPoolExecutor(
        count,
        mp_context=multiprocessing.get_context("fork"),
        initializer=_end_with_parent,
        initargs=(os.getpid(),),
    )


def _end_with_parent(parent: int) -> None:
    # Signals are for the process that holds the pool; it ends its workers.
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.SIG_IGN if number == signal.SIGINT else signal.SIG_DFL)
    if sys.platform == "linux":
        ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL, 0, 0, 0)
        if os.getppid() != parent:
            os._exit(1)  # it had ended before it could be asked for
