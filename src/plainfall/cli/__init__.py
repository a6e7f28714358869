"""The command line: what people type and what they see. Nothing below this layer prints or exits."""

from __future__ import annotations

import signal
import sys
from collections.abc import Sequence
from types import FrameType

from plainfall.cli.console import Console
from plainfall.cli.definition import build_parser

__all__ = ["main"]

_INTERRUPTED = 130


def main(words: Sequence[str] | None = None) -> int:
    """Runs one command; returns the exit status (0 done, 1 failed, 2 usage, 3 value needed, 4 nothing to
    onboard, 130 interrupted)."""
    given = list(sys.argv[1:] if words is None else words)
    # What stands behind two dashes is a command of the person's own, and none of it is an option of ours.
    split = given.index("--") if given[:1] == ["inside"] and "--" in given else len(given)
    options = build_parser().parse_args(given[:split])
    if given[:1] == ["inside"]:
        options.words = given[split + 1 :]
    console = Console.of_process(options)
    signal.signal(signal.SIGTERM, _interrupt)
    from plainfall.errors import PlainfallError

    try:
        status: int = options.run(options, console)
        return status
    except PlainfallError as error:
        console.show_error(error)
        return error.exit_status
    except KeyboardInterrupt:
        console.note("interrupted; run the same command again to go on")
        return _INTERRUPTED
    except BrokenPipeError:
        sys.stderr.close()
        return 1


def _interrupt(number: int, frame: FrameType | None) -> None:
    raise KeyboardInterrupt
