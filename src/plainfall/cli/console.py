"""The streams that a run talks to: results on standard output, progress and errors on standard error."""

from __future__ import annotations

import argparse
import os
import shutil
import sys
import textwrap
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, TextIO

if TYPE_CHECKING:
    from plainfall.errors import PlainfallError

__all__ = ["Console"]

_STYLES = {"good": "32", "kept": "36", "bad": "31;1", "warn": "33", "dim": "2", "strong": "1", "plain": "0"}


@dataclass(frozen=True)
class Console:
    """Streams and how to write to them. ``live`` tells whether lines on standard error may be redrawn."""

    out: TextIO
    err: TextIO
    json: bool
    quiet: bool
    verbose: bool
    may_ask: bool
    colour_out: bool
    colour_err: bool
    live: bool
    width: int
    variables: Mapping[str, str]

    @classmethod
    def of_process(cls, options: argparse.Namespace) -> Console:
        """This process's streams, with the options that every command has."""
        plain = bool(os.environ.get("NO_COLOR")) or os.environ.get("TERM") == "dumb"
        err_is_terminal = sys.stderr.isatty()
        return cls(
            out=sys.stdout,
            err=sys.stderr,
            json=options.json,
            quiet=options.quiet,
            verbose=options.verbose,
            may_ask=not (options.no_input or options.json) and sys.stdin.isatty() and err_is_terminal,
            colour_out=sys.stdout.isatty() and not plain,
            colour_err=err_is_terminal and not plain,
            live=err_is_terminal and os.environ.get("TERM") != "dumb" and not (options.json or options.quiet),
            width=max(60, min(shutil.get_terminal_size((100, 24)).columns, 140)),
            variables=os.environ,
        )

    def styled(self, text: str, style: str, *, out: bool = False) -> str:
        """The text in a colour, where the stream shows colours."""
        if not (self.colour_out if out else self.colour_err):
            return text
        return f"\x1b[{_STYLES[style]}m{text}\x1b[0m"

    def result(self, text: str = "") -> None:
        """A line of the result, on standard output."""
        print(text, file=self.out, flush=True)

    def note(self, text: str = "") -> None:
        """A line of progress, on standard error; not with ``--quiet`` or ``--json``."""
        if not (self.quiet or self.json):
            print(text, file=self.err, flush=True)

    def wrapped(self, text: str, indent: int, first: str = "") -> str:
        """The text folded to the width; ``first`` stands before it, further lines are indented."""
        room = max(24, self.width - indent)
        lines = textwrap.wrap(text, room, break_long_words=False, break_on_hyphens=False) or [""]
        return first + f"\n{' ' * indent}".join(lines)

    def shown_path(self, path: str | Path) -> str:
        """The path with the home folder as ``~``."""
        home = self.variables.get("HOME", "")
        text = str(path)
        return f"~{text[len(home) :]}" if home not in ("", "/") and text.startswith(f"{home}/") else text

    def show_error(self, error: PlainfallError) -> None:
        """A failure: where, what, the lines that matter, the remedy, the log. In JSON form too."""
        if self.json:
            import json

            from plainfall.cli.document import failure_document

            self.result(json.dumps({"outcome": "failed", "failure": failure_document(None, error)}, indent=2))
            return
        print(self.error_text(error), file=self.err, flush=True)

    def error_text(self, error: PlainfallError, indent: str = "") -> str:
        """The whole text of a failure."""
        deep = len(indent)
        rows = [self.wrapped(str(error), deep + 7, indent + self.styled("error", "bad") + "  ")]
        rows += [f"{indent}       {self.styled('│', 'bad')} {line}" for line in error.lines]
        if error.remedy:
            rows.append(self.wrapped(error.remedy, deep + 7, indent + self.styled("do", "strong") + "     "))
        if error.log:
            rows.append(f"{indent}log    {self.shown_path(error.log)}")
        return "\n".join(rows)
