"""Runs one command from its arguments to its exit status, and reports every failure."""

from __future__ import annotations

import contextlib
import os
import sys
import time
import traceback
import warnings
from collections.abc import Iterator, Sequence
from pathlib import Path

from plainfall import __version__
from plainfall.cli.console import Console
from plainfall.cli.definition import build_parser
from plainfall.errors import PlainfallError
from plainfall.memory import exhausted, limit_memory
from plainfall.tracing import trace
from plainfall.workers import end_workers

__all__ = ["flushed", "run"]

_LOG_VARIABLE = "PLAINFALL_DEBUG_LOG"  # a file, or 1 for one in the state folder
_FAULT = 70  # EX_SOFTWARE of sysexits(3)


def run(given: Sequence[str]) -> int:
    """Runs the command that the words name; returns the exit status."""
    # What follows two dashes is the user's command; its options are not ours.
    words = list(given)
    takes_words = words[:1] in (["inside"], ["check"])
    split = words.index("--") if takes_words and "--" in words else len(words)
    parser = build_parser(words[0] if words else "")
    options = parser.parse_args(words[:split])
    if takes_words:
        if options.words:
            parser.error(f"unrecognized arguments: {' '.join(options.words)}")
        options.words = words[split + 1 :]
    limit_memory(os.environ)
    console = Console.of_process(options)
    # Python's own way of showing a warning writes its text as it is, and a build's backend may have made it.
    warnings.showwarning = _to_debug_log
    try:
        try:
            if options.verbose > 1 or os.environ.get(_LOG_VARIABLE):
                _write_debug_log(words, console)
            status: int = options.run(options, console)
            return status
        except PlainfallError as error:
            console.show_error(error)
            return error.exit_status
        except (BrokenPipeError, KeyboardInterrupt):
            raise
        except OSError as error:
            problem = _of_system(error)
            console.show_error(problem)
            return problem.exit_status
        except MemoryError:
            problem = exhausted()
            console.show_error(problem)
            return problem.exit_status
        except Exception:
            problem = _of_fault(words)
            console.show_error(problem)
            return _FAULT
    except BrokenPipeError:
        return _reader_gone()
    except OSError:
        return 1  # the streams themselves cannot be written: there is nobody to tell
    finally:
        end_workers()


def _to_debug_log(
    message: Warning | str,
    category: type[Warning],
    filename: str,
    lineno: int,
    file: object = None,
    line: str | None = None,
) -> None:
    trace.debug("%s: %s (%s:%d)", category.__name__, message, filename, lineno)


def _write_debug_log(words: Sequence[str], console: Console) -> None:
    """Starts the debug log and prints its path: the file that the variable names, else one in the state folder."""
    from plainfall.surroundings import Surroundings
    from plainfall.tracing import write_to

    named = os.environ.get(_LOG_VARIABLE, "")
    name = f"{time.strftime('%Y%m%d-%H%M%S')}-{os.getpid()}.log"
    path = Path(named) if named not in ("", "1") else Surroundings.of_process().state / "debug" / name
    write_to(path.absolute())
    console.note(f"decisions and requests are written to {console.shown_path(path)}")
    trace.debug("plainfall %s: %s", __version__, words[:1])


def _of_system(error: OSError) -> PlainfallError:
    """The message for an error of the operating system."""
    where = error.filename2 or error.filename
    if isinstance(error, FileNotFoundError) and not _has_folder():
        return PlainfallError(
            "the current folder does not exist any more",
            remedy="Go to a folder that is there, and run the same command again.",
        )
    return PlainfallError(
        f"operating system error: {(error.strerror or str(error)).lower()}"
        + (f" ({where})" if where else ""),
        remedy="Check the owner and mode of that place, and that its disk has room and can be written.",
    )


def _has_folder() -> bool:
    try:
        os.getcwd()
    except OSError:
        return False
    return True


def _of_fault(words: Sequence[str]) -> PlainfallError:
    """An unexpected exception: the traceback goes to a file, readable by the user alone."""
    text = f"plainfall {' '.join(words)}\n\n{traceback.format_exc()}"
    log = None
    with contextlib.suppress(Exception):  # then it is shown without
        from plainfall.surroundings import Surroundings

        folder = Surroundings.of_process().state / "faults"
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        path = folder / f"{time.strftime('%Y%m%d-%H%M%S')}-{os.getpid()}.log"
        handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with open(handle, "w", encoding="utf-8", errors="backslashreplace") as file:
            file.write(text)
        log = str(path)
    last = traceback.format_exc().strip().splitlines()[-1][:300]
    return PlainfallError(
        f"internal error of Plainfall: {last}",
        remedy="Nothing of yours was lost; the next run goes on. Send the log to the maintainers.",
        log=log,
    )


@contextlib.contextmanager
def flushed() -> Iterator[None]:
    """Flushes the output at the end of the block, and discards it if nobody reads it: the interpreter would print
    an error at its exit."""
    try:
        yield
    finally:
        for stream in (sys.stdout, sys.stderr):
            try:
                if stream is not None:
                    stream.flush()
            except (OSError, ValueError):
                _reader_gone()


def _reader_gone() -> int:
    """The reader of the output has ended: the rest of the output is discarded."""
    with contextlib.suppress(OSError, ValueError):
        nowhere = os.open(os.devnull, os.O_WRONLY)
        for stream in (sys.stdout, sys.stderr):
            if stream is not None:
                os.dup2(nowhere, stream.fileno())
    return 1
