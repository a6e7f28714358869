"""The DevTools protocol over a pair of pipes: no port is open while a browser runs, at which other users of the
machine could drive it."""

from __future__ import annotations

import json
import os
import selectors
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any

from plainfall.processes import started
from plainfall.reading import foreign_json

__all__ = ["Talk", "driven"]

_START = 20.0  # seconds for a browser to start
_LARGEST = 4_000_000  # bytes of one message; a page can say what it likes on its console


class Talk:
    """Messages to and from a browser, each a JSON text that ends with a zero byte."""

    def __init__(self, reading: int, writing: int) -> None:
        self._reading, self._writing = reading, writing
        self._selector = selectors.DefaultSelector()
        self._selector.register(reading, selectors.EVENT_READ)
        self._data = b""
        self._number = 0
        self._events: list[dict[str, Any]] = []

    def ask(self, method: str, session: str = "", seconds: float = _START, **more: Any) -> dict[str, Any]:
        """The result of a method; events that come meanwhile are kept. Raises ValueError if it is refused or takes
        too long."""
        self._number += 1
        number = self._number
        message = {
            "id": number,
            "method": method,
            "params": more,
            **({"sessionId": session} if session else {}),
        }
        os.write(self._writing, json.dumps(message).encode() + b"\0")
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            answer: dict[str, Any] | None = None
            for one in self._messages(
                until - time.monotonic()
            ):  # all of them: events may stand behind the answer
                if one.get("id") == number:
                    answer = one
                else:
                    self._events.append(one)
            if answer is not None and "error" in answer:
                raise ValueError(str(answer["error"].get("message", method)))
            if answer is not None:
                return dict(answer.get("result") or {})
        raise ValueError(f"no answer to {method} within {seconds:.0f} s")

    def events(self, seconds: float) -> list[dict[str, Any]]:
        """What has come since, after at most this time."""
        kept, self._events = self._events, []
        return kept or [one for one in self._messages(seconds) if "method" in one]

    def _messages(self, seconds: float) -> list[dict[str, Any]]:
        if not self._selector.select(max(0.0, seconds)):
            return []
        piece = os.read(self._reading, 1 << 16)
        if not piece:
            raise EOFError("it ended")
        *texts, self._data = (self._data + piece).split(b"\0")
        if len(self._data) > _LARGEST:
            raise ValueError("what it says has no end")
        return [foreign_json(text, "the browser's answer") for text in texts]


@contextmanager
def driven(words: Sequence[str], profile: str, variables: Mapping[str, str]) -> Iterator[Talk]:
    """A browser, started by these words, that runs while the block does."""
    commands, writing = os.pipe()
    reading, answers = os.pipe()
    os.set_blocking(writing, True)
    # The browser reads its commands from the fourth file, and writes into the fifth. By their paths: some shells
    # know only files of one digit.
    line = f'exec "$@" 3</dev/fd/{commands} 4>/dev/fd/{answers}'
    try:
        with (
            open(os.devnull, "rb+") as nothing,
            started(
                ["/bin/sh", "-c", line, "sh", *words, "--remote-debugging-pipe", "about:blank"],
                variables,
                folder=profile,
                stdin=nothing,
                stdout=nothing,
                stderr=nothing,
                pass_fds=(commands, answers),
            ),
        ):
            os.close(answers)
            answers = -1
            yield Talk(reading, writing)
    finally:
        for one in (commands, writing, reading, answers):
            if one >= 0:
                os.close(one)
