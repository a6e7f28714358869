"""The program in a process of its own, forked from one that has imported it before: importing is most of what a
short run costs, and the suite makes some thousand runs. ``Machine.start`` starts it as people do."""

from __future__ import annotations

import multiprocessing
import os
import resource
import shlex
import subprocess
import sys
import tempfile
from collections.abc import Mapping, Sequence
from functools import cache
from multiprocessing import forkserver
from pathlib import Path

import pytest

__all__ = ["PYTHON", "memory_of_last_run", "run_program", "seconds_of_last_run"]

PYTHON = shlex.quote(sys.executable)  # as a word of a command line

_FORKS = multiprocessing.get_context("forkserver")
_FORKS.set_forkserver_preload(["forked", "preloaded"])


@cache
def _serve_forks() -> None:
    """Starts the process that the runs are forked from; it finds these modules by PYTHONPATH alone, and would pass
    over them without a word."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("PYTHONPATH", str(Path(__file__).parent))
        forkserver.ensure_running()


def run_program(
    words: Sequence[str], variables: Mapping[str, str], folder: Path, timeout: float
) -> tuple[int, str, str]:
    """Exit status (negative: the signal that ended it), output, error output. Raises TimeoutExpired."""
    _serve_forks()
    with tempfile.TemporaryDirectory() as made:
        out, err = Path(made, "out"), Path(made, "err")
        process = _FORKS.Process(target=_program, args=(words, dict(variables), folder, out, err))
        process.start()
        process.join(timeout)
        if process.exitcode is None:
            process.kill()
            process.join()
            raise subprocess.TimeoutExpired(
                list(words), timeout, out.read_text("utf-8"), err.read_text("utf-8")
            )
        used = Path(made, "used")
        _used[:] = map(float, used.read_text().split()) if used.exists() else (0, 0)
        return process.exitcode, out.read_text("utf-8"), err.read_text("utf-8")


_used = [0.0, 0.0]


def memory_of_last_run() -> int:
    """The most memory that the last finished run had, in kB; 0 if it was ended by a signal."""
    return int(_used[0])


def seconds_of_last_run() -> float:
    """The processor time that the last finished run took, with its children, in seconds; it does not hang on what
    else the machine does."""
    return _used[1]


def _program(words: Sequence[str], variables: Mapping[str, str], folder: Path, out: Path, err: Path) -> None:
    for number, path, how in (
        (0, Path(os.devnull), os.O_RDONLY),
        (1, out, os.O_WRONLY | os.O_CREAT),
        (2, err, os.O_WRONLY | os.O_CREAT),
    ):
        handle = os.open(path, how, 0o600)
        os.dup2(handle, number)
        os.close(handle)
    sys.stdin = open(0, encoding="utf-8", closefd=False)
    sys.stdout = open(1, "w", encoding="utf-8", closefd=False)
    sys.stderr = open(2, "w", encoding="utf-8", errors="backslashreplace", closefd=False, buffering=1)
    os.chdir(folder)
    os.environ.clear()
    os.environ.update(variables)
    sys.argv = ["plainfall", *words]
    from plainfall.cli import main

    try:
        sys.exit(main(words))
    finally:
        own, children = map(resource.getrusage, (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN))
        seconds = own.ru_utime + own.ru_stime + children.ru_utime + children.ru_stime
        out.with_name("used").write_text(f"{own.ru_maxrss} {seconds}")
