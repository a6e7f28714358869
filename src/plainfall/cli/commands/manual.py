"""Print the manual page, for man: plainfall manual > plainfall.1."""

from __future__ import annotations

import argparse
from collections.abc import Iterator

from plainfall import __version__
from plainfall.cli.console import Console
from plainfall.cli.definition import build_parser

__all__ = ["ORDER", "arguments", "run"]

ORDER = 10  # among the commands that --help lists


def arguments(parser: argparse.ArgumentParser) -> None:
    """Defines the command's arguments: none of its own."""


def run(options: argparse.Namespace, console: Console) -> int:
    """Prints the page in the man macros of roff, made of the definitions of all arguments."""
    console.out.write("\n".join(_page(build_parser())) + "\n")
    return 0


def _page(parser: argparse.ArgumentParser) -> Iterator[str]:
    yield f'.TH PLAINFALL 1 "" "plainfall {__version__}" "User commands"'
    yield ".SH NAME"
    yield f"plainfall \\- {_plain(_lower(parser.description or ''))}"
    yield ".SH SYNOPSIS"
    yield ".B plainfall\n.I COMMAND\n[options]"
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            yield ".SH COMMANDS"
            for name, one in action.choices.items():
                yield from _command(name, one)
    yield ".SH EXIT STATUS"
    yield _plain((parser.epilog or "").removeprefix("exit status: "))


def _command(name: str, parser: argparse.ArgumentParser) -> Iterator[str]:
    yield f".SS plainfall {name}"
    yield _plain(parser.description or "")
    for action in parser._actions:
        if action.help == argparse.SUPPRESS or isinstance(action, argparse._HelpAction):
            continue
        value = action.metavar or (action.dest.upper() if action.nargs != 0 else "")
        shown = f" \\fI{_plain(str(value))}\\fR" if value and action.nargs != 0 else ""
        names = ", ".join(f"\\fB{_plain(one)}\\fR" for one in action.option_strings)
        yield ".TP"
        yield f"{names}{shown}".strip()
        yield _plain(action.help or "")


def _lower(text: str) -> str:
    return text[:1].lower() + text[1:]


def _plain(text: str) -> str:
    """A text as roff takes it: hyphens as they are typed, no line that is taken for a request."""
    escaped = " ".join(text.split()).replace("\\", "\\e").replace("-", "\\-")
    return f"\\&{escaped}" if escaped.startswith((".", "'")) else escaped
