"""Worker processes, one pool for the program: they read sources, unpack and lay packages.

They are forked, and only while no other thread runs: a lock that another thread holds at that moment would never
be released in the child. Whoever starts threads calls ``worker_pool`` first.
"""

from __future__ import annotations

import os
import signal
import sys
import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from concurrent.futures import Executor, Future

__all__ = ["cancelled_on_error", "end_workers", "worker_count", "worker_pool"]

_PR_SET_PDEATHSIG = 1  # prctl(2)
_MOST = 4

_POOLS: dict[int, Executor] = {}  # by the process that made it: a forked child has none
_LOCK = threading.Lock()
_WORKERS_OF: list[int] = []  # in a worker: the process whose worker it is


def worker_count() -> int:
    """How many worker processes the pool has."""
    return min(os.cpu_count() or 1, _MOST)


def worker_pool() -> Executor | None:
    """The pool of this process, made at the first call. None where processes cannot be forked: on a system
    without it, on a single processor, in a worker, and while other threads run; the caller then does the work
    itself."""
    if _WORKERS_OF:
        return None  # the lock was taken at the fork, and is not used here
    with _LOCK:
        pool = _POOLS.get(os.getpid())
        if pool is None and worker_count() > 1 and threading.active_count() == 1:
            import multiprocessing
            from concurrent.futures import ProcessPoolExecutor

            if "fork" not in multiprocessing.get_all_start_methods():
                return None
            pool = ProcessPoolExecutor(
                worker_count(),
                mp_context=multiprocessing.get_context("fork"),
                initializer=_end_with_parent,
                initargs=(os.getpid(),),
            )
            pool.submit(os.getpid)  # the first task forks all workers, before the pool's own thread starts
            _POOLS[os.getpid()] = pool
        return pool


def end_workers() -> None:
    """Ends the pool; what is not begun is cancelled, what is under way is waited for."""
    with _LOCK:
        pool = _POOLS.pop(os.getpid(), None)
    if pool is not None:
        pool.shutdown(wait=True, cancel_futures=True)


@contextmanager
def cancelled_on_error(tasks: Sequence[Future[Any]]) -> Iterator[None]:
    """After an exception in the block the tasks are cancelled, those under way waited for."""
    try:
        yield
    except BaseException:
        for task in tasks:
            task.cancel()
        for task in tasks:
            if not task.cancelled():
                task.exception()
        raise


def _end_with_parent(parent: int) -> None:
    _WORKERS_OF.append(parent)
    # Signals are for the process that has the pool; it ends its workers.
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.SIG_IGN if number == signal.SIGINT else signal.SIG_DFL)
    if sys.platform == "linux":
        import ctypes

        ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL, 0, 0, 0)
        if os.getppid() != parent:
            os._exit(1)  # it had ended before it could be asked for
