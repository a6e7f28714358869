"""Ending a run by a signal: at once, in every state, with all processes that it started.

The first signal raises KeyboardInterrupt where the program is, so that what is open can be closed: a database
put back, a server stopped. What takes longer than a few seconds then (a thread that waits for the network, a worker
that unpacks) is not waited for: everything that a run leaves behind is safe to be cut off. A second signal does not
wait at all.
"""

from __future__ import annotations

import contextlib
import os
import signal
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType
from typing import NoReturn

__all__ = ["STATUS", "end_now", "ending_by_signals", "handled", "taking_time"]

STATUS = 130
_GRACE = 4.0  # seconds between the first signal and the end
_SIGNALS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
_timer: threading.Timer | None = None
_patient = 0


@contextmanager
def ending_by_signals() -> Iterator[None]:
    """While the block runs the signals end the program as described above. Only in the main thread."""
    before = {number: signal.getsignal(number) for number in _SIGNALS}
    for number in _SIGNALS:
        if before[number] is not signal.SIG_IGN:  # nohup(1) wants it so
            signal.signal(number, _interrupt)
    try:
        yield
    finally:
        if _timer is None:
            for number, handler in before.items():
                signal.signal(number, handler)


@contextmanager
def taking_time() -> Iterator[None]:
    """While the block runs the end waits for it: it ends servers, which may take their time."""
    global _patient
    _patient += 1
    try:
        yield
    finally:
        _patient -= 1


def _interrupt(number: int, frame: FrameType | None) -> None:
    global _timer
    if _timer is not None:
        if not _patient:
            end_now()
        return
    _timer = threading.Timer(_GRACE, _end_late)
    _timer.daemon = True
    _timer.start()
    processes = sys.modules.get("plainfall.processes")
    if processes is not None and processes.postpone_interrupt():
        return
    raise KeyboardInterrupt


def _end_late() -> None:
    global _timer
    if _patient:
        _timer = threading.Timer(_GRACE, _end_late)
        _timer.daemon = True
        _timer.start()
        return
    end_now()


def handled() -> None:
    """Clears an interrupt that the command expected (the end of following), so that the program ends normally."""
    global _timer
    if _timer is not None:
        _timer.cancel()
        _timer = None


def end_now(note: str = "") -> NoReturn:
    """Ends this process with what it had under way."""
    with contextlib.suppress(
        Exception
    ):  # a stream that is gone, or in the middle of a write: nobody reads it
        if note and "--json" not in sys.argv and "--quiet" not in sys.argv:
            sys.stderr.write(f"{note}\n")
        sys.stdout.flush()
        sys.stderr.flush()
    processes = sys.modules.get("plainfall.processes")
    if processes is not None:
        processes.end_all()
    workers = sys.modules.get("multiprocessing.process")
    for worker in workers.active_children() if workers is not None else ():
        worker.kill()
    os._exit(STATUS)
