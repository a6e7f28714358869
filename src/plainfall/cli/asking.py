"""Asking a person on the terminal for a setting's value."""

from __future__ import annotations

import getpass

from plainfall.cli.console import Console
from plainfall.cli.view import RunView
from plainfall.formats.values import is_secret
from plainfall.settings.setting import Consent, Question

__all__ = ["TerminalAsker"]


class TerminalAsker:
    """Asks the questions in turn; an empty answer takes the proposed value, or leaves the key open where there is
    none."""

    def __init__(self, console: Console, view: RunView) -> None:
        self._console = console
        self._view = view

    def __call__(self, question: Question | Consent) -> str | None:
        self._view.pause()
        console = self._console
        if isinstance(question, Consent):
            return self._consent(question)
        console.note("")
        console.note(f"  {console.styled(question.key, 'strong')} is a value that only you know.")
        if question.why:
            console.note(console.wrapped(question.why.replace("\n", " "), 4, "    "))
        for use in question.uses[:3]:
            verb = "The code stops without it" if use.needed else "It is read at"
            place = f"{verb}: {use.place}" if use.needed else f"{verb} {use.place}"
            console.note(console.wrapped(f"{place}  {console.styled(use.place.text, 'dim')}", 6, "    "))
        if not question.needed:
            console.note("    The project starts without it; left open, it is not asked for again.")
        prompt = f"empty takes {question.proposed}" if question.proposed else "empty leaves it open"
        console.prompt(f"  value ({prompt}): ")
        try:
            if is_secret(question.key):
                return getpass.getpass("", stream=console.err) or None
            return input() or question.proposed or None
        except EOFError:
            return None

    def _consent(self, consent: Consent) -> str | None:
        console = self._console
        console.note("")
        console.note(console.wrapped(console.styled(consent.what, "strong"), 2, "  "))
        console.note(console.wrapped(consent.why, 4, "    "))
        console.prompt("  yes or no (empty is no): ")
        try:
            return input()
        except EOFError:
            return None
