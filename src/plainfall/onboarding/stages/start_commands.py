"""Which start commands of a part are tried, and in which order."""

from __future__ import annotations

import re
import subprocess
from dataclasses import replace

from plainfall.clone.commands import Command
from plainfall.onboarding.choices import CHOSEN_RANK
from plainfall.onboarding.work import Work
from plainfall.processes import run

__all__ = ["TRIES", "in_turn", "keep_answering", "with_its_word"]

_ANSWERED = "answering command"
_HELP = 20.0  # seconds that a program may take to print its help
_SERVE_WORDS = ("serve", "runserver", "server", "run-server", "start", "run", "web", "webserver", "up")
_WORD_OF_HELP = re.compile(r"^ {1,12}([a-z][\w-]*)(?: {2,40}|$)|(?<=[{,])([a-z][\w-]*)(?=[,}])", re.MULTILINE)
TRIES = 3  # start commands that are tried in one run
_WORTH_TRYING = 3  # candidates of a lower rank name what is not here


def in_turn(work: Work) -> list[Command]:
    """The start commands to try: the chosen one, or the one that answered before, then the best."""
    every = work.part.candidates("server")
    if every[0].rank >= CHOSEN_RANK:
        return every[:1]
    before = work.state.record(work.part.key, _ANSWERED)
    answered = before.get("line")
    if answered and all(one.line != answered for one in every):
        every.append(replace(every[0], line=answered, reason=str(before.get("reason"))))
    every.sort(key=lambda one: one.line != answered)
    return [one for number, one in enumerate(every) if number == 0 or one.rank >= _WORTH_TRYING][:TRIES]


def keep_answering(work: Work, command: Command) -> None:
    """Remembers the command that answered after others had ended, so that it is tried first from now on."""
    work.state.keep(work.part.key, _ANSWERED, {"line": command.line, "reason": command.reason})


def with_its_word(work: Work, command: Command) -> list[Command]:
    """The same program with the word by which it serves, where it is a bare one whose help names such a word, and
    with its option for the port."""
    if re.fullmatch(r"(?:python -m )?[\w.-]+", command.line) is None:
        return []
    words = _WORD_OF_HELP.findall(_help(work, [*command.line.split(), "--help"]))
    known = {first or second for first, second in words}
    word = next((one for one in _SERVE_WORDS if one in known), None)
    if word is None:
        return []
    port = " --port ${PORT}" if "--port" in _help(work, [*command.line.split(), word, "--help"]) else ""
    reason = f"{command.line} --help names {word!r}"
    return [replace(command, line=f"{command.line} {word}{port}", reason=reason)]


def _help(work: Work, words: list[str]) -> str:
    try:
        return run(words, work.variables(), folder=work.folder, seconds=_HELP).output[:20_000]
    except (OSError, subprocess.TimeoutExpired):
        return ""
