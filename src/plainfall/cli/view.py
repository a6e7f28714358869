"""The terminal view of a run: one line per step when it ends, with all reasons if asked, and a status line while it
runs."""

from __future__ import annotations

import shlex
import time
from collections.abc import Sequence
from typing import Any

from plainfall.cli.console import Console
from plainfall.cli.visible import visible
from plainfall.clone.parts import Contradiction, PartFound, Survey
from plainfall.ecosystems import title_of
from plainfall.evidence import Evidence
from plainfall.onboarding.part.events import (
    Attempt,
    Event,
    RunStarted,
    StepFinished,
    StepProgress,
    StepStarted,
)
from plainfall.onboarding.part.steps import State, Step, StepResult

__all__ = ["RunView", "examples_text", "part_heading", "part_of", "show_contradictions"]

_STYLE = {
    State.DONE: "good",
    State.KEPT: "kept",
    State.FAILED: "bad",
    State.WAITING: "dim",
    State.TO_DO: "warn",
    State.LEFT_OUT: "dim",
}
_INDENT = 36
_EXAMPLES = 5  # that are named; --json has them all


class RunView:
    """A listener that writes to the console; a status line moves while a step runs, where lines can be redrawn.
    In a ``preview`` steps have no time, and always their reason."""

    def __init__(self, console: Console, *, preview: bool = False) -> None:
        self._console = console
        self._preview = preview
        self._part: str | None = None
        self._survey: Survey | None = None
        self._status: Any = None
        self._last = 0.0
        self._fetching: tuple[float, int] | None = None

    def __call__(self, event: Event) -> None:
        if isinstance(event, RunStarted):
            self._survey = event.survey
        elif isinstance(event, StepStarted):
            self._show_part(event.step.part)
            self._move(f"{event.step.stage.value}: {event.step.title}")
        elif isinstance(event, StepProgress):
            self._progress(event)
        elif isinstance(event, Attempt):
            self._attempt(event)
        elif isinstance(event, StepFinished):
            self.pause()
            self.show_step(event.step, event.result, event.seconds)
            if event.error is not None:
                self._console.note("")
                self._console.error(self._console.error_text(event.error, "  "))
                self._console.note("")

    def say(self, text: str) -> None:
        """Shows what is at work in the status line, where there is one."""
        self._move(text)

    def pause(self) -> None:
        """Removes the status line, so that something else can be written."""
        if self._status is not None:
            self._status.stop()
            self._status = None

    def _move(self, text: str) -> None:
        if not self._console.live:
            return
        text = visible(text)
        if self._status is None:
            from rich.text import Text

            self._status = self._console.terminal(self._console.err).status(Text(text))
            self._status.start()
        else:
            from rich.text import Text

            self._status.update(Text(text[: self._console.width - 4]))

    def _attempt(self, event: Attempt) -> None:
        """A line for what was tried after a failure, while the run goes on."""
        self.pause()
        came = f"got as far as the {event.reached.value}" if event.reached is not None else "it works"
        text = f"{event.words}: {came if event.further else 'did not help'}"
        self._console.note(
            self._console.wrapped(text, 14, "  " + self._console.styled("tried", "dim") + "       ")
        )

    def _progress(self, event: StepProgress) -> None:
        now = time.monotonic()
        if now - self._last < 0.1:
            return
        self._last = now
        self._move(f"{event.step.stage.value}: {self._how_far(event, now)}")

    def _how_far(self, event: StepProgress, now: float) -> str:
        """The progress in words; of a download its size and, from its rate so far, the seconds left."""
        if event.unit != "bytes fetched":
            entire = f" of {event.total:,}" if event.total else ""
            return f"{event.done:,}{entire} {event.unit}" if event.done or entire else event.unit
        if self._fetching is None:
            self._fetching = now, event.done
        since, before = self._fetching
        rate = (event.done - before) / (now - since) if now > since else 0.0
        left = (
            f", {(event.total - event.done) / rate:.0f} s left" if rate and event.total > event.done else ""
        )
        return f"{event.done / 1e6:.1f} of {event.total / 1e6:.1f} MB fetched{left}"

    def _show_part(self, path: str) -> None:
        if path == self._part or self._survey is None:
            return
        self._part = path
        part = part_of(self._survey, path)
        self._console.note("")
        self._console.note(part_heading(self._console, self._survey, part))

    def show_step(self, step: Step, result: StepResult, seconds: float) -> None:
        """One step's lines: state, time, stage, what was done; below it why, and remarks."""
        console = self._console
        state = console.styled(f"{result.state.value:<8}", _STYLE[result.state])
        untimed = self._preview or result.state in (State.WAITING, State.LEFT_OUT)
        timing = " " * 8 if untimed else f"{seconds:6.2f} s"
        head = f"  {state}  {timing}  {step.stage.value:<14}"
        title = _relative(console, result.title)
        place = f"  ({result.evidence[0]})" if result.evidence and not console.verbose else ""
        if (
            result.state in (State.FAILED, State.LEFT_OUT)
            or _INDENT + len(title) + len(place) > console.width
        ):
            place = ""
        console.note(console.wrapped(title, _INDENT, head) + console.styled(visible(place), "dim"))
        # An error is shown by itself, and what was left out is known by its reason.
        is_said = result.state in (State.LEFT_OUT, State.TO_DO) or (
            self._preview and result.state is State.FAILED
        )
        is_said = is_said or (console.verbose and result.state is not State.FAILED)
        why = _why(result) if is_said else ""
        if why:
            console.note(console.styled(console.wrapped(why, _INDENT, " " * _INDENT), "dim"))
        for remark in (*result.remarks, *(result.notes if console.verbose else ())):
            console.note(console.wrapped(_relative(console, remark), _INDENT + 2, " " * _INDENT + "· "))
        if console.verbose:
            for other in result.detail.get("rejected", ()):
                text = f"not {other['path']} ({other['version']}): {other['reason']}"
                console.note(console.styled(console.wrapped(text, _INDENT + 2, " " * _INDENT), "dim"))


def _relative(console: Console, text: str) -> str:
    home = console.variables.get("HOME", "")
    return text.replace(f"{home}/", "~/") if home not in ("", "/") else text


def _why(result: StepResult) -> str:
    places = [str(place) for place in result.evidence if str(place) not in result.why]
    places = list(dict.fromkeys(places))[:3]
    if result.why and places:
        return f"{result.why} ({', '.join(places)})"
    return result.why or (f"see {', '.join(places)}" if places else "")


def part_of(survey: Survey, path: str) -> PartFound:
    """The part of that folder, onboarded or not."""
    return next(part for part in (*survey.parts, *survey.others) if part.key == path)


def show_contradictions(
    console: Console, contradictions: Sequence[Contradiction], *, out: bool = False
) -> None:
    """Prints contradictions: to standard error, or with ``out`` as a part of the result."""
    write = console.result if out else console.note
    for one in contradictions:
        head = "  " + console.styled("disagree", "warn", out=out) + "  "
        write(console.wrapped(f"{one.what}; taken: {one.taken}", 12, head))
        places = ", ".join(str(place) for place in one.places)
        write(console.styled(console.wrapped(places, 12, " " * 12), "dim", out=out))


def part_heading(console: Console, survey: Survey, part: PartFound) -> str:
    """The part's line: its folder, its language, the files it was known by."""
    name = f"{survey.name}/{part.path}" if part.path else survey.name
    branch = f", branch {survey.history}" if survey.history and not part.path else ""
    known: list[Evidence] = list(part.evidence[:3])
    places = ", ".join(place.path for place in known)
    return f"{console.styled(name, 'strong')}  {title_of(part.language)}{branch}  (known by {places})"


def examples_text(console: Console, survey: Survey, named: str) -> str:
    """What example applications the clone has, and how one is onboarded; ``named`` is the clone's folder as a word
    of a command line, with a space before it ("" for this folder)."""
    folders = [folder for folder, _ in survey.examples]
    more = f" and {len(folders) - _EXAMPLES} more" if len(folders) > _EXAMPLES else ""
    # The names are the clone's, and the command is there to be copied.
    command = f"plainfall onboard{named} --part {shlex.quote(folders[0])}"
    text = f"{', '.join(folders[:_EXAMPLES])}{more}; onboard one with: {command}"
    return console.wrapped(text, 12, f"  {console.styled('examples', 'strong')}  ")
