"""What a program of the project says when it is asked for its help."""

from __future__ import annotations

import re
import subprocess
from collections.abc import Sequence

from plainfall.onboarding.part.work import Work
from plainfall.patterns import regex
from plainfall.processes import run

__all__ = ["help_text", "help_words", "words_of_help"]

_SECONDS = 20.0  # that a program may take to print its help
_WORD = regex(r"^ {1,12}([a-z][\w-]*)(?: {2,40}|$)|(?<=[{,])([a-z][\w-]*)(?=[,}])", re.MULTILINE)


def help_text(work: Work, words: Sequence[str]) -> str:
    """What the command prints with ``--help`` behind it; "" where it cannot be run or takes too long."""
    try:
        return run([*words, "--help"], work.variables(), folder=work.folder, seconds=_SECONDS).output[:20_000]
    except (OSError, subprocess.TimeoutExpired):
        return ""


def help_words(work: Work, words: Sequence[str]) -> list[str]:
    """The words that the command's help lists as its own commands, in their order."""
    return words_of_help(help_text(work, words))


def words_of_help(text: str) -> list[str]:
    """The words that a help text lists as commands, in their order."""
    return list(dict.fromkeys(first or second for first, second in _WORD.findall(text)))
