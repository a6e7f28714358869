"""Print what makes a shell complete words of this program: bash, zsh or fish."""

from __future__ import annotations

import argparse

from plainfall.cli.console import Console
from plainfall.cli.definition import build_parser

__all__ = ["ORDER", "arguments", "run"]

ORDER = 9  # among the commands that --help lists
_SHELLS = ("bash", "zsh", "fish")
_FOLDERS = ("CLONE", "FOLDER", "DIR")
_FILES = ("FILE", "PATH", "WHERE")


def arguments(parser: argparse.ArgumentParser) -> None:
    """Defines the command's arguments."""
    parser.add_argument("shell", choices=_SHELLS, metavar="SHELL", help=f"one of {', '.join(_SHELLS)}")


def run(options: argparse.Namespace, console: Console) -> int:
    """Prints the shell's script, made of the definitions of all arguments."""
    import shtab

    parser = build_parser()
    for one in _parsers(parser):
        for action in one._actions:
            if action.metavar in _FOLDERS:
                action.complete = shtab.DIRECTORY  # type: ignore[attr-defined]
            elif action.metavar in _FILES:
                action.complete = shtab.FILE  # type: ignore[attr-defined]
    console.out.write(shtab.complete(parser, options.shell).rstrip() + "\n")
    return 0


def _parsers(parser: argparse.ArgumentParser) -> list[argparse.ArgumentParser]:
    results = [parser]
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            results += action.choices.values()
    return results
