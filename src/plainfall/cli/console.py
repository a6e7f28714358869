"""The output streams of a run: results on standard output, progress and errors on standard error."""

from __future__ import annotations

import argparse
import io
import os
import secrets
import shutil
import sys
import textwrap
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, TextIO

from plainfall.cli.visible import visible
from plainfall.patterns import regex

if TYPE_CHECKING:
    from rich.console import Console as RichConsole
    from rich.text import Text

    from plainfall.errors import PlainfallError

__all__ = ["Console"]

# Before the name of a style in texts on their way to a stream: foreign text cannot hold it, so that what is shown
# in colours is the program's own.
_OWN = secrets.token_hex(6)
_OWN_STYLE = regex(_OWN + r"\[([a-z]*)\]")
_STYLES = {
    "good": "green",
    "kept": "cyan",
    "bad": "bold red",
    "warn": "yellow",
    "dim": "dim",
    "strong": "bold",
    "plain": "",
    "": "",
}


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
    _terminals: dict[TextIO, RichConsole] = field(default_factory=dict, compare=False)

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
            verbose=options.verbose > 0,
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
        return f"{_OWN}[{style}]{text}{_OWN}[]"

    def result(self, text: str = "") -> None:
        """A line of the result, on standard output."""
        self._print(self.out, text)

    def plain(self, text: str) -> None:
        """A text of several lines as the result, its lines neither wrapped nor styled."""
        self.out.write(visible(text))

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
        if not self.colour_out:
            self._print(self.out, head + text)
            return
        from rich.text import Text

        # What a server colours stays coloured; any other sequence in its line was spelled out before.
        line = self._text(head) + Text.from_ansi(visible(text, colours=True))
        self.terminal(self.out).print(line, soft_wrap=True)

    @contextmanager
    def waiting(self, text: str) -> Iterator[Callable[[str], None]]:
        """While the block runs, a line on standard error that changes with each call of what is given; nothing
        where lines cannot be redrawn."""
        if self.quiet or self.json or not self.live:
            yield lambda said: None
            return
        with self.terminal(self.err).status(visible(text)) as status:
            yield lambda said: status.update(visible(said))

    def prompt(self, text: str) -> None:
        """The beginning of a line on standard error, behind which a person types."""
        self._print(self.err, text, end="")

    def terminal(self, stream: TextIO) -> RichConsole:
        """Rich's console for one of the two streams."""
        from rich.console import Console as RichConsole

        if stream not in self._terminals:
            colours = self.colour_out if stream is self.out else self.colour_err
            self._terminals[stream] = RichConsole(
                file=stream,
                width=self.width,
                no_color=not colours,
                force_terminal=colours or None,
                color_system="standard" if colours else None,
                highlight=False,
                markup=False,
                emoji=False,
            )
        return self._terminals[stream]

    def _print(self, stream: TextIO, text: str, end: str = "\n") -> None:
        colours = self.colour_out if stream is self.out else self.colour_err
        if colours:
            self.terminal(stream).print(self._text(text), soft_wrap=True, end=end)
        else:
            print(visible(text), file=stream, end=end)  # nothing to style: no need of Rich's imports
        stream.flush()

    @staticmethod
    def _text(text: str) -> Text:
        """A text with the program's own styles; all that is foreign in it is visible."""
        from rich.text import Text

        pieces = _OWN_STYLE.split(text)
        made = Text(visible(pieces[0]))
        for style, piece in zip(pieces[1::2], pieces[2::2], strict=True):
            made.append(visible(piece), _STYLES[style])
        return made

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
            from plainfall.onboarding.records.outcome import failure_document

            self.document({"outcome": "failed", "failure": failure_document(None, error)})
            return
        self.error(self.error_text(error))

    def error_text(self, error: PlainfallError, indent: str = "") -> str:
        """The full text of a failure."""
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
