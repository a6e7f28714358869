"""The debug log: what was decided and asked, written to a file for whoever looks for a fault of Plainfall's own.

Modules say things to ``trace``; nothing is written unless ``write_to`` was called. Secrets are covered: the values
that ``cover`` was told, and logins in addresses.
"""

from __future__ import annotations

import logging
import os
import re
import threading
from collections.abc import Iterable
from pathlib import Path

__all__ = ["cover", "trace", "write_to"]

trace = logging.getLogger("plainfall")
trace.propagate = False
trace.addHandler(logging.NullHandler())

_SHORTEST = 6  # characters of a secret; shorter values stand in ordinary words
_LOGIN = re.compile(r"(?<=//)[^/\s@]{1,400}@")
_COVERED: set[str] = set()
_LOCK = threading.Lock()


def cover(values: Iterable[str]) -> None:
    """From now on these values are covered in the log."""
    with _LOCK:
        _COVERED.update(value for value in values if len(value) >= _SHORTEST)


class _Covered(logging.Formatter):
    def format(self, record: logging.LogRecord) -> str:
        text = super().format(record)
        with _LOCK:
            secrets = sorted(_COVERED, key=len, reverse=True)
        for one in secrets:
            text = text.replace(one, "••••••")
        return _LOGIN.sub("••••••@", text)


def write_to(path: Path) -> None:
    """Writes all that is said to a new file, which the user alone can read. Raises OSError."""
    path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    os.close(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600))
    handler = logging.FileHandler(path, encoding="utf-8", errors="backslashreplace")
    handler.setFormatter(
        _Covered("%(asctime)s.%(msecs)03d %(threadName)s %(module)s: %(message)s", "%H:%M:%S")
    )
    trace.addHandler(handler)
    trace.setLevel(logging.DEBUG)
