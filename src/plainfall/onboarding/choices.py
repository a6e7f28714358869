"""Start commands that a person chose for a clone's parts, kept with it and put before all that was found."""

from __future__ import annotations

from dataclasses import replace

from plainfall.clone.commands import Command
from plainfall.clone.parts import PartFound, Survey
from plainfall.errors import UsageProblem
from plainfall.evidence import Evidence
from plainfall.onboarding.state import CloneState

__all__ = ["CHOSEN_RANK", "choose_command", "part_named", "with_choices"]

_STAGE = "start command"
CHOSEN_RANK = 10_000  # above the rank of anything that is found


def with_choices(survey: Survey, state: CloneState) -> Survey:
    """The survey with the chosen commands as the first candidates of their parts."""
    return replace(survey, parts=tuple(_with_choice(part, state) for part in survey.parts))


def _with_choice(part: PartFound, state: CloneState) -> PartFound:
    line = state.record(part.key, _STAGE).get("line")
    if not isinstance(line, str):
        return part
    result = next((one for one in part.candidates("server") if one.line == line), None)
    place = result.evidence if result else Evidence(".plainfall/state.json")
    reason = f"chosen by you; {result.reason}" if result else "chosen by you"
    mine = Command("server", line, reason, CHOSEN_RANK, place, part.path)
    return replace(part, commands=(mine, *part.commands))


def choose_command(part: PartFound, words: str, state: CloneState) -> Command | None:
    """Remembers a start command for a part: the number of a candidate (from 1), a command line, or ``auto``
    for the first candidate again. Returns it, None for ``auto``. Raises UsageProblem for a number that no
    candidate has. The clone must be locked."""
    if words == "auto":
        state.forget(part.key, _STAGE)
        return None
    candidates = part.candidates("server")
    if words.isdigit():
        if not 1 <= int(words) <= len(candidates):
            raise UsageProblem(
                f"there is no start command {words} for {part.key or 'this clone'}",
                remedy="See them with: plainfall serve --commands",
            )
        words = candidates[int(words) - 1].line
    state.keep(part.key, _STAGE, {"line": words})
    result = next((one for one in candidates if one.line == words), None)
    return result or Command(
        "server", words, "chosen by you", CHOSEN_RANK, Evidence("the command line"), part.path
    )


def part_named(survey: Survey, name: str | None) -> PartFound:
    """The part of that key or folder ("." for the top); without a name the only one, or the one at the top.
    Raises UsageProblem with the parts that there are."""
    if name is None:
        if len(survey.parts) == 1:
            return survey.parts[0]
        name = ""
    plain = "" if name == "." else name.strip("/")
    for part in survey.parts:
        if part.key == plain:
            return part
    names = ", ".join(part.key or "." for part in survey.parts)
    raise UsageProblem(
        f"{name or 'the top'} is no part of this clone", remedy=f"Name one with --part: {names}"
    )
