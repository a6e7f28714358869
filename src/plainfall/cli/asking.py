"""Asking a person on the terminal for a setting's value."""

from __future__ import annotations

import getpass

from plainfall.cli.console import Console
from plainfall.cli.view import RunView
from plainfall.settings.filling import Question
from plainfall.settings.values import is_secret

__all__ = ["TerminalAsker"]


class TerminalAsker:
    """Asks one question after the other; an empty answer leaves the key open."""

    def __init__(self, console: Console, view: RunView) -> None:
        self._console = console
        self._view = view

    def __call__(self, question: Question) -> str | None:
        self._view.pause()
        console = self._console
        console.note("")
        console.note(f"  {console.styled(question.key, 'strong')} is a value that only you know.")
        if question.why:
            console.note(console.wrapped(question.why.replace("\n", " "), 4, "    "))
        if question.needed_by:
            console.note(f"    The code stops without it: {question.needed_by}")
        console.err.write("  value (empty leaves it open): ")
        console.err.flush()
        try:
            if is_secret(question.key):
                return getpass.getpass("", stream=console.err) or None
            return input() or None
        except EOFError:
            return None
