"""Run a command in a part's environment, with its settings, and pass its exit status on."""

from __future__ import annotations

import argparse
import os
import shutil
import signal
from pathlib import Path

from plainfall.cli.arguments import with_clone
from plainfall.cli.console import Console
from plainfall.errors import PlainfallError, UsageProblem
from plainfall.memory import give_back_own
from plainfall.onboarding.run.clone_root import clone_of
from plainfall.onboarding.uses.inside import own_client, variables_inside
from plainfall.surroundings import Surroundings

__all__ = ["ORDER", "arguments", "run"]

ORDER = 5  # among the commands that --help lists


def arguments(parser: argparse.ArgumentParser) -> None:
    """Defines the command's arguments."""
    with_clone(parser)
    parser.add_argument("--part", metavar="FOLDER", help="the part (default: the only one, or the top's)")
    parser.add_argument("words", nargs="*", metavar="-- COMMAND", help="the command, behind two dashes")


def run(options: argparse.Namespace, console: Console) -> int:
    """Replaces this process by the command, in the part's folder: terminal, signals and exit status are the
    command's own."""
    if not options.words:
        raise UsageProblem(
            "there is no command", remedy="Write it behind two dashes, as in: plainfall inside -- python -V"
        )
    surroundings = Surroundings.of_process()
    place = clone_of(Path(options.clone).absolute(), surroundings)
    folder, variables = variables_inside(place, options.part, surroundings)
    words = own_client(folder, list(options.words), variables)
    program = shutil.which(words[0], path=variables["PATH"]) if "/" not in words[0] else words[0]
    if program is None or not (folder / program).exists():
        raise PlainfallError(
            f"{words[0]} is neither in the environment of this part nor on the path",
            remedy="Check its name, and whether the dependency list has the package that brings it.",
        )
    os.chdir(folder)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    try:
        give_back_own()
        os.execve(program, words, variables)
    except OSError as error:
        raise PlainfallError(f"{program} cannot be run: {error.strerror}") from error
