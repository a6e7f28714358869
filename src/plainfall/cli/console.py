"""The streams that a run talks to: results on standard output, progress and errors on standard error."""

from __future__ import annotations

import argparse
import io
import os
import re
import secrets
import shutil
import sys
import textwrap
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, TextIO

from plainfall.cli.visible import visible

if TYPE_CHECKING:
    from plainfall.errors import PlainfallError

__all__ = ["Console"]

# Before the code of a colour in texts on their way to a stream: foreign text cannot hold it, so that what is
# turned into a terminal's sequence is the program's own.
_OWN = secrets.token_hex(6)
_OWN_COLOUR = re.compile(_OWN + r"\[([0-9;]*)m")
_STYLES = {"good": "32", "kept": "36", "bad": "31;1", "warn": "33", "dim": "2", "strong": "1", "plain": "0"}


@dataclass(frozen=True)
class Console:
    """Streams and how to write to them; all that is written passes through ``visible``. ``live`` tells whether
    lines on standard error may be redrawn."""

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
        out, err = _stream(sys.stdout), _stream(sys.stderr)
        err_is_terminal = err.isatty()
        return cls(
            out=out,
            err=err,
            json=options.json,
            quiet=options.quiet,
            verbose=options.verbose,
            may_ask=not (options.no_input or options.json) and _is_terminal(sys.stdin) and err_is_terminal,
            colour_out=out.isatty() and not plain,
            colour_err=err_is_terminal and not plain,
            live=err_is_terminal and os.environ.get("TERM") != "dumb" and not (options.json or options.quiet),
            width=max(60, min(shutil.get_terminal_size((100, 24)).columns, 140)),
            variables=os.environ,
        )

    def styled(self, text: str, style: str, *, out: bool = False) -> str:
        """The text in a colour, where the stream shows colours."""
        if not (self.colour_out if out else self.colour_err):
            return text
        return f"{_OWN}[{_STYLES[style]}m{text}{_OWN}[0m"

    def result(self, text: str = "") -> None:
        """A line of the result, on standard output."""
        self._print(self.out, text)

    def document(self, value: Any) -> None:
        """The one JSON document of the result."""
        import json

        self.result(json.dumps(value, indent=2, ensure_ascii=False))

    def note(self, text: str = "") -> None:
        """A line of progress, on standard error; not with ``--quiet`` or ``--json``."""
        if not (self.quiet or self.json):
            self._print(self.err, text)

    def error(self, text: str) -> None:
        """Lines on standard error in any case."""
        self._print(self.err, text)

    def log_line(self, head: str, text: str) -> None:
        """A line of a followed log on standard output, behind its head; its colours stay on a terminal."""
        print(self._shown(head) + visible(text, colours=self.colour_out), file=self.out, flush=True)

    def prompt(self, text: str) -> None:
        """The beginning of a line on standard error, behind which a person types."""
        self.err.write(self._shown(text))
        self.err.flush()

    def _print(self, stream: TextIO, text: str) -> None:
        print(self._shown(text), file=stream, flush=True)

    @staticmethod
    def _shown(text: str) -> str:
        return _OWN_COLOUR.sub("\x1b[\\1m", visible(text))

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
            from plainfall.cli.document import failure_document

            self.document({"outcome": "failed", "failure": failure_document(None, error)})
            return
        self.error(self.error_text(error))

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


def _stream(stream: TextIO | None) -> TextIO:
    """A standard stream that takes any character; one that was closed before the start takes and drops all."""
    if stream is None:
        return open(os.devnull, "w", encoding="utf-8")
    if isinstance(stream, io.TextIOWrapper):
        stream.reconfigure(errors="backslashreplace")
    return stream


def _is_terminal(stream: TextIO | None) -> bool:
    return stream is not None and stream.isatty()
