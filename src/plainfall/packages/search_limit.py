"""What a search for versions may take of the processor, whatever a manifest asks for and a registry answers."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from resolvelib import BaseReporter
from resolvelib.resolvers import ResolutionTooDeep

__all__ = ["LIMIT_IN_WORDS", "ROUNDS", "SECONDS", "SearchLimit"]

ROUNDS = 20_000
# Of one thread; sets of 170 packages, and one that walked through 1,400 releases, took less than a second
SECONDS = 5.0
LIMIT_IN_WORDS = f"{SECONDS:.0f} s of processor time and {ROUNDS:,} rounds"


class SearchLimit(BaseReporter[Any, Any, Any]):
    """A reporter of resolvelib's that ends a search with ResolutionTooDeep. What an index answers has bounds of
    its own (size, number, time): reading it is not counted."""

    def __init__(self) -> None:
        self._begun = time.thread_time()
        self._reading = 0.0

    @contextmanager
    def reading(self) -> Iterator[None]:
        """What the block takes is not the search's."""
        begun = time.thread_time()
        try:
            yield
        finally:
            self._reading += time.thread_time() - begun

    def starting_round(self, index: int) -> None:
        """Called by the search; raises ResolutionTooDeep when the time is over."""
        self._check()

    def adding_requirement(self, requirement: Any, parent: Any) -> None:
        """As ``starting_round``: one round may go through all releases of a package."""
        self._check()

    def rejecting_candidate(self, criterion: Any, candidate: Any) -> None:
        """As ``starting_round``."""
        self._check()

    def _check(self) -> None:
        if time.thread_time() - self._begun - self._reading > SECONDS:
            raise ResolutionTooDeep(ROUNDS)
