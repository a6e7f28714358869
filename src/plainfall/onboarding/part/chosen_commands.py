"""What a person chose for a clone, kept with it: start commands of its parts, put before all that was found, and
stages that are left out."""

from __future__ import annotations

from collections.abc import Collection

from msgspec.structs import replace

from plainfall.clone.commands import Command
from plainfall.clone.parts import PartFound, Survey
from plainfall.errors import UsageProblem
from plainfall.evidence import Evidence
from plainfall.kept_records import SkippedStages, StartChosen
from plainfall.onboarding.part.steps import State, Step, StepResult
from plainfall.onboarding.records.state import CloneState

__all__ = ["CHOSEN_RANK", "choose_command", "part_named", "skipped", "with_choices", "without"]


CHOSEN_RANK = 10_000  # above the rank of anything that is found


def with_choices(survey: Survey, state: CloneState) -> Survey:
    """The survey with the chosen commands as the first candidates of their parts."""
    return replace(survey, parts=tuple(_with_choice(part, state) for part in survey.parts))


def _with_choice(part: PartFound, state: CloneState) -> PartFound:
    line = state.read(part.key, StartChosen).line
    if not line:
        return part
    result = next((one for one in part.candidates("server") if one.line == line), None)
    place = result.evidence if result else Evidence(".plainfall/state.json")
    reason = f"chosen by you; {result.reason}" if result else "chosen by you"
    mine = Command("server", line, reason, CHOSEN_RANK, place, part.path)
    return replace(part, commands=(mine, *part.commands))


def skipped(state: CloneState, asked: Collection[str]) -> frozenset[str]:
    """The names of the stages that are left out: those that were asked for now, or in earlier runs; the word "none"
    forgets the earlier ones."""
    before = () if "none" in asked else state.read("", SkippedStages).names
    return frozenset({*asked, *before} - {"none"})


def without(step: Step, left_out: Collection[str]) -> Step:
    """The step, or one in its place that does nothing and says so."""
    if step.stage.value not in left_out:
        return step
    why = f"left out, as you said (--skip {step.stage.value}); --skip none forgets it"
    result = StepResult(State.LEFT_OUT, step.title, why)
    return replace(step, carry_out=lambda _: result)


def choose_command(part: PartFound, words: str, state: CloneState) -> Command | None:
    """Remembers a start command for a part: the number of a candidate (from 1), a command line, or ``auto``
    for the first candidate again. Returns it, None for ``auto``. Raises UsageProblem for a number that no
    candidate has. The clone must be locked."""
    if words == "auto":
        state.forget(part.key, StartChosen)
        return None
    candidates = part.candidates("server")
    if words.isdigit():
        if not 1 <= int(words) <= len(candidates):
            raise UsageProblem(
                f"there is no start command {words} for {part.key or 'this clone'}",
                remedy="See them with: plainfall serve --commands",
            )
        words = candidates[int(words) - 1].line
    state.keep(part.key, StartChosen(line=words))
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
