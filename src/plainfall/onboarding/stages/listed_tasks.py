"""Migrations and seeds that only the installed packages know: the task runner of the part is asked for its
tasks."""

from __future__ import annotations

import shlex
import subprocess
from collections.abc import Callable

from msgspec.structs import replace

from plainfall.clone.commands import Command
from plainfall.kept_records import TaskList
from plainfall.onboarding.part.results import TasksResult
from plainfall.onboarding.part.steps import State, StepResult
from plainfall.onboarding.part.work import Work
from plainfall.processes import run
from plainfall.writing import digest_of, digest_of_files

__all__ = ["LISTS", "as_listed"]

LISTS = "task list"  # of the command that lists tasks, and of the record of its answer
_SECONDS = 60.0  # that the command may take
_SHOWN = 6  # tasks that are named


def as_listed(work: Work, stage: str, carry_out: Callable[[Work], StepResult]) -> StepResult:
    """Carries a stage out with the part's command for it; where it has none, with the one that its task runner
    lists: left out where that lists none."""
    if not work.part.candidates(stage):
        command = work.part.candidates(LISTS)[0]
        failure, names = _names(work, command)
        if failure and work.preview:
            return StepResult(
                State.TO_DO, f"run what `{command.line}` lists for it", failure, (command.evidence,)
            )
        if failure:
            return StepResult(State.LEFT_OUT, f"no {stage} were run", failure, (command.evidence,))
        known = work.language.task_list
        found = [one for one in known.commands(names, command) if one.stage == stage] if known else []
        if not found:
            shown = ", ".join(names[:_SHOWN]) + (", …" if len(names) > _SHOWN else "")
            why = f"`{command.line}` lists {len(names)} tasks, none for {stage}" + (
                f": {shown}" if shown else ""
            )
            return StepResult(State.LEFT_OUT, "nothing to do", why, (command.evidence,))
        handed = TasksResult(replace(work.part, commands=(*work.part.commands, *found)))
        result = carry_out(work.after_stage(handed))
        return replace(result, hands_on=result.hands_on or handed)
    return carry_out(work)


def _names(work: Work, command: Command) -> tuple[str, list[str]]:
    """Why the tasks could not be listed ("" where they could), and their names. The answer is kept with what it
    depends on, since loading an application takes seconds."""
    place = f"{work.part.path}/" if work.part.path else ""
    files = [
        f"{place}{path}" for path in work.tree.below(work.part.path) if path.endswith((".rake", "akefile"))
    ]
    fingerprint = digest_of(
        command.line,
        work.fingerprints.get("dependencies"),
        work.fingerprints.get("settings"),
        digest_of_files(work.clone, files),
    )
    before = work.state.read(work.part.key, TaskList)
    if before.fingerprint == fingerprint:
        return "", list(before.names)
    if work.preview:
        return f"`{command.line}` is asked first, and tells whether there are any", []
    work.before_command()
    try:
        done = run(shlex.split(command.line), work.variables(), folder=work.folder, seconds=_SECONDS)
    except subprocess.TimeoutExpired:
        return f"`{command.line}` did not end within {_SECONDS:.0f} s", []
    except OSError as error:
        return f"`{command.line}` could not be run: {error.strerror}", []
    if done.status:
        lines = work.masked(done.errors or done.output).strip().splitlines()
        return f"`{command.line}` failed: {lines[0][:200] if lines else 'it printed nothing'}", []
    known = work.language.task_list
    names = known.names(done.output) if known else []
    work.state.keep(work.part.key, TaskList(fingerprint=fingerprint, names=tuple(names)))
    return "", names
