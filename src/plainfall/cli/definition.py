"""The command line: one module of ``commands`` a command, found by walking. Only the module of the command that is
run is imported; what the others are for is read from the first line of their files."""

from __future__ import annotations

import argparse
import importlib
import pkgutil
import re
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

from plainfall import __version__
from plainfall.cli import commands
from plainfall.patterns import regex

__all__ = ["build_parser", "command_names"]

_TEXT = regex(r'\A"""(.+?)\.?(?:"""|\n)')
_ORDER = regex(r"^ORDER = (\d+)", re.MULTILINE)
_EPILOG = """\
exit status: 0 done, 1 a step failed, 2 wrong usage, 3 a value is needed that only you have,
4 nothing here that can be onboarded, 70 a fault of its own, 130 interrupted
"""


def command_names() -> dict[str, str]:
    """What each command is for, by its name, in the order in which they are listed."""
    results = []
    for place in commands.__path__:
        for one in pkgutil.iter_modules([place]):
            source = Path(place, f"{one.name}.py").read_text("utf-8")
            text, order = _TEXT.match(source), _ORDER.search(source)
            if text is not None and order is not None:
                source_text = text.group(1)
                results.append((int(order.group(1)), one.name, source_text[0].lower() + source_text[1:]))
    return {name: source_text for _, name, source_text in sorted(results)}


def build_parser(word: str | None = None) -> argparse.ArgumentParser:
    """The command line, with the arguments of the command ``word``; with those of all where it is None."""
    parser = argparse.ArgumentParser(
        prog="plainfall",
        description="Takes a fresh clone to a dev server that answers, with evidence for each step.",
        epilog=_EPILOG,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("--version", action="version", version=f"plainfall {__version__}")
    listed = parser.add_subparsers(metavar="COMMAND", required=True)
    shared = _shared()
    for name, text in command_names().items():
        one = listed.add_parser(
            name, parents=[shared], help=text, description=text[0].upper() + text[1:] + "."
        )
        if word in (None, name):
            _module(name).arguments(one)
        one.set_defaults(run=partial(_run, name))
    return parser


def _module(name: str) -> Any:
    return importlib.import_module(f"plainfall.cli.commands.{name}")


def _run(name: str, options: argparse.Namespace, console: Any) -> int:
    run: Callable[[argparse.Namespace, Any], int] = _module(name).run
    return run(options, console)


def _shared() -> argparse.ArgumentParser:
    shared = argparse.ArgumentParser(add_help=False)
    group = shared.add_argument_group("what is shown")
    group.add_argument(
        "--json", action="store_true", help="one JSON document on standard output, nothing else"
    )
    amount = group.add_mutually_exclusive_group()
    amount.add_argument("--quiet", action="store_true", help="only the result and errors")
    amount.add_argument(
        "--verbose",
        action="count",
        default=0,
        help="everything that was found and rejected, too; twice: also write decisions and requests to a log",
    )
    group.add_argument("--no-input", action="store_true", help="never ask; what is open stays open")
    return shared
