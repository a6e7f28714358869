"""The debug log: what was decided and asked, written to a file for finding faults of Plainfall itself.

Modules report to ``trace``; nothing is written unless ``write_to`` was called, and only then the standard
library's ``logging`` is imported. Secrets are covered: the values that ``cover`` was told, and logins in addresses.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from plainfall.patterns import regex

if TYPE_CHECKING:
    from logging import Logger

__all__ = ["cover", "trace", "write_to"]

_SHORTEST = 6  # characters of a secret; shorter values stand in ordinary words
_LOGIN = regex(r"(?<=//)[^/\s@]{1,400}@")
_COVERED: set[str] = set()
_LOCK = threading.Lock()


class _Trace:
    def __init__(self) -> None:
        self.logger: Logger | None = None

    def debug(self, text: str, *values: object) -> None:
        """Logs a message; ``values`` are put into the text only where it is written."""
        if self.logger is not None:
            self.logger.debug(text, *values, stacklevel=2)


trace = _Trace()


def cover(values: Iterable[str]) -> None:
    """From now on these values are covered in the log."""
    with _LOCK:
        _COVERED.update(value for value in values if len(value) >= _SHORTEST)


def _covered(text: str) -> str:
    with _LOCK:
        secrets = sorted(_COVERED, key=len, reverse=True)
    for one in secrets:
        text = text.replace(one, "••••••")
    return _LOGIN.sub("••••••@", text)


def write_to(path: Path) -> None:
    """Writes all messages to a new file, which the user alone can read. Raises OSError."""
    import logging

    class Covered(logging.Formatter):
        def format(self, record: logging.LogRecord) -> str:
            return _covered(super().format(record))

    path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    os.close(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600))
    handler = logging.FileHandler(path, encoding="utf-8", errors="backslashreplace")
    form = "%(asctime)s.%(msecs)03d %(threadName)s %(module)s: %(message)s"
    handler.setFormatter(Covered(form, "%H:%M:%S"))
    trace.logger = logging.getLogger("plainfall")
    trace.logger.propagate = False
    trace.logger.setLevel(logging.DEBUG)
    trace.logger.addHandler(handler)
