"""The command line: what people type and what they see. Nothing below this layer prints or exits."""

from __future__ import annotations

import gc
import sys
from collections.abc import Sequence

__all__ = ["main"]

# New objects before the collector looks for circles (the interpreter's own limit is 700). A command is short and
# makes few circles: looking rarely takes 2 to 4 % off.
_NEW_OBJECTS = 200_000


def main(words: Sequence[str] | None = None) -> int:
    """Runs one command; returns the exit status (0 done, 1 failed, 2 usage, 3 value needed, 4 nothing to
    onboard, 70 an internal error). An interrupt (SIGINT, SIGTERM, SIGHUP) ends this process with
    status 130 and all that it had under way; it does not return."""
    gc.set_threshold(_NEW_OBJECTS, 20, 20)
    from plainfall.cli.ending import end_now, ending_by_signals

    try:
        with ending_by_signals():
            from plainfall.cli.program import flushed, run

            with flushed():
                return run(list(sys.argv[1:] if words is None else words))
    except KeyboardInterrupt:
        end_now("interrupted; run the same command again to go on")
