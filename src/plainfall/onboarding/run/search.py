"""The search after a failure: remedies propose changes, the likeliest is tried, what gets the run further is
kept.

Everything goes forward: a change is other decisions and a stage; the steps from that stage on are carried out
again. An attempt that fails in the same way is taken back, and the next one begins where it began.
"""

from __future__ import annotations

import importlib
import pkgutil
import re
import time
from collections.abc import Callable, Iterator, Sequence
from functools import cache
from typing import Protocol, cast

from msgspec.structs import replace

from plainfall.errors import CommandFailed, DependencyProblem, PlainfallError, ServerFailed
from plainfall.failure_kinds import FailureKind
from plainfall.onboarding import remedies as _folder
from plainfall.onboarding.part.decisions import Decisions, keep_decisions
from plainfall.onboarding.part.steps import Stage, State, Step, StepResult
from plainfall.onboarding.part.team_decisions import digest_of_team
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Advice, Change, Failure, Remedy
from plainfall.onboarding.run.deeds import carry_out_deed
from plainfall.onboarding.stages.start_failures import CommandEnded
from plainfall.onboarding.stages.starting import stop_server
from plainfall.settings.setting import agrees

__all__ = ["MOST_SECONDS", "Search"]

MOST_SECONDS = 180.0  # beyond its first failure


class PartUnderWay(Protocol):
    """The part as it is now; ``explained`` carries a step out and hands its result on. Raises what it failed
    with."""

    work: Work

    def explained(self, step: Step) -> StepResult: ...


@cache
def _remedies() -> tuple[Remedy, ...]:
    names = [one.name for one in pkgutil.iter_modules(_folder.__path__)]
    modules = [cast(Remedy, importlib.import_module(f"{_folder.__name__}.{name}")) for name in names]
    return tuple(sorted(modules, key=lambda one: one.ORDER))


class _Unchanged(Exception):
    """Other decisions that come to what there was."""


class Search:
    """What was tried for one part after failures, and what of it is kept. ``attempted`` hears of each attempt: its
    words, the stage that failed then, and whether that is further."""

    def __init__(
        self,
        run: PartUnderWay,
        steps: Sequence[Step],
        attempted: Callable[[str, Stage | None, bool], None],
    ) -> None:
        self._run = run
        self._steps = steps
        self._attempted = attempted
        self._left = run.work.wishes.attempts
        self._until: float | None = None
        self._tried: set[tuple[object, ...]] = set()
        self._unclean: int | None = None  # the position of the stage from which on a change was taken back
        self._better: list[Failure] = []
        self._failed_at = Stage.RUNTIME
        self.said: list[str] = []
        self.errors: list[PlainfallError] = []

    @property
    def _work(self) -> Work:
        return self._run.work

    def go_on(self, step: Step, error: PlainfallError) -> StepResult:
        """The result of a step that has failed, once decisions are found under which it does not. Raises the
        failure that counts: of the way that was tried first, where that got furthest."""
        self.said, self.errors = [], [error]
        if self._until is None:
            self._until = time.monotonic() + MOST_SECONDS
        first = Failure(step.stage, error, error.command)
        self._better = [first]
        before = self._work.decisions
        result = self._explore(step, first, aside=False)
        searched = self._run.work.searched or self._run.work.decisions != before
        self._run.work = replace(self._run.work, searched=searched)
        if result is None and self._unclean is not None:
            self._clean(step)
        if self._work.decisions != before:
            self._keep()
        if result is not None:
            return result
        raise self._better[-1].error

    def _keep(self) -> None:
        team = digest_of_team(self._work.tree, self._work.part.path)
        keep_decisions(self._work.state, self._work.part.key, self._work.decisions, team)

    def _explore(self, step: Step, failure: Failure, *, aside: bool) -> StepResult | None:
        """Tries what may help against a failure, and against those behind it. None where nothing does."""
        for change in self._changes(failure):
            words, before = change.words, self._work.decisions
            self._left -= 1
            self._tried.add(change.key)
            try:
                came = carry_out_deed(self._run.work, change.deed)
                if came is None:
                    self._left += 1
                    continue
                self._run.work, done = came
                result, of_stage = self._forward(change, step)
                words = words.replace("{result}", of_stage).replace("{done}", done)
            except _Unchanged:
                self._left += 1
                self._take_back(before, change)
                continue
            except PlainfallError as problem:
                behind = Failure(self._failed_at, problem, problem.command)
                self.errors.append(problem)
                got_further = behind.likeness != failure.likeness
                self._note(change, words, failure, problem, got_further)
                if not got_further:
                    self._take_back(before, change)
                    continue
                earlier = behind.stage.position < failure.stage.position
                lateral = change.aside or earlier
                if (not lateral and not aside) or (change.aside and not earlier and _never_began(failure)):
                    self._better.append(behind)
                said = len(self.said)
                found = self._explore(step, behind, aside=aside or lateral)
                if found is not None:
                    return found
                if not lateral:
                    return None
                self.said[said - 1 :] = []
                self._take_back(before, change)
                continue
            self._note(change, words, failure, None, True)
            return result
        return None

    def _changes(self, failure: Failure) -> Iterator[Change]:
        """The proposals of all remedies that were not tried yet, while there is time."""
        if not isinstance(failure.error, DependencyProblem | CommandFailed | ServerFailed):
            return  # nothing but what the person does helps
        for remedy in _remedies():
            if failure.stage not in remedy.STAGES:
                continue
            for proposal in remedy.propose(self._work, failure):
                if isinstance(proposal, Advice):
                    failure.error.remedy = proposal.remedy
                    continue
                if self._left <= 0 or time.monotonic() > (self._until or 0.0):
                    return
                if proposal.key not in self._tried and self._is_wanted(proposal):
                    yield proposal

    def _is_wanted(self, change: Change) -> bool:
        return change.question is None or agrees(self._work.ask, change.question)

    def _forward(self, change: Change, step: Step) -> tuple[StepResult, str]:
        """Carries out the steps from the change's stage to the one that failed. Returns the last result, and
        what came of the first stage in words."""
        self._run.work = replace(self._run.work, decided=change.decisions)
        start = min(change.stage.position, change.stage.position if self._unclean is None else self._unclean)
        if step.stage is Stage.PROBE and start <= Stage.SERVER.position and self._work.server is not None:
            stop_server(self._work, self._work.server)  # it has loaded what was there when it started
            self._run.work = replace(self._run.work, server=None)
        results: dict[int, StepResult] = {}
        versions = change.deed is None and change.stage.position <= Stage.DEPENDENCIES.position
        for one in self._between(start, step):
            if versions and one.stage.position > Stage.DEPENDENCIES.position:
                if all(each.state is State.KEPT for each in results.values()):
                    raise _Unchanged  # nothing else would run than before
                versions = False
            self._failed_at = one.stage
            results[one.stage.position] = self._run.explained(one)
        self._unclean = None
        result = results[step.stage.position]
        return result, results.get(change.stage.position, result).title

    def _between(self, start: int, step: Step) -> Iterator[Step]:
        for one in self._steps:
            if one is step:
                break
            if one.stage.position >= start:
                yield one
        yield step

    def _take_back(self, before: Decisions, change: Change) -> None:
        self._run.work = replace(self._run.work, decided=before)
        at = change.stage.position
        self._unclean = at if self._unclean is None else min(at, self._unclean)

    def _clean(self, step: Step) -> None:
        """Makes runtime, environment and packages again what they were before the last attempt."""
        start = self._unclean or 0
        for one in self._between(start, step):
            if one is step:
                break
            try:
                self._run.explained(one)
            except PlainfallError:
                return  # the failure that counts is said; the next run begins there
        self._unclean = None

    def _note(
        self, change: Change, words: str, failure: Failure, problem: PlainfallError | None, further: bool
    ) -> None:
        reached = None if problem is None else self._failed_at
        self._attempted(re.sub(r" \([^()]*\)$", "", _plain(change.words)), reached, further)
        if further:
            self.said.append(f"{_plain(words)} (before that: {failure.error.cause})")
        else:
            self.said.append(f"{_plain(words)}: that did not help, and was taken back")


def _never_began(failure: Failure) -> bool:
    """Whether nothing of the project ran at all, or only to say how it is used: what another start command failed
    with tells more."""
    only_usage = isinstance(failure.error, CommandEnded) and failure.error.only_usage
    return only_usage or failure.error.rule in (FailureKind.COMMAND_MISSING, FailureKind.PROGRAM_MISSING)


def _plain(words: str) -> str:
    """A change's words without what came of it."""
    return words.replace(": {result}", "").replace("{result}", "another one").replace("{done}", "")
