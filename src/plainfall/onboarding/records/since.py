"""What a run changed since the one before, in a few lines: the commit, packages, keys of settings, migrations."""

from __future__ import annotations

import time
from collections.abc import Sequence
from typing import Any

from plainfall.kept_records import LastRun
from plainfall.onboarding.part.steps import Stage, State, Step, StepResult
from plainfall.onboarding.records.state import CloneState
from plainfall.onboarding.stages.foreseen import package_changes
from plainfall.repository import head_commit

__all__ = ["changes_since", "note_run"]

_SHORT = 8  # digits of a commit
_NAMED = 6


def note_run(state: CloneState, outcome: str) -> None:
    """Notes when a run ended, how, and at which commit."""
    commit = head_commit(state.repository) if state.repository is not None else ""
    at = time.strftime("%Y-%m-%d %H:%M")
    state.keep("", LastRun(at=at, commit=commit, outcome=outcome))


def changes_since(state: CloneState, steps: Sequence[tuple[Step, StepResult, float]]) -> list[str]:
    """What the steps of this run changed, in words, the first saying since when; empty where no run came before, or
    nothing changed. Before ``note_run``."""
    before = state.kept("", LastRun)
    if before is None:
        return []
    found = [
        text for step, result, _ in steps if result.state is State.DONE for text in _changes(step, result)
    ]
    commit = head_commit(state.repository) if state.repository is not None else ""
    was = before.commit
    moved = f", commit {was[:_SHORT]} → {commit[:_SHORT]}" if was and commit and was != commit else ""
    return [f"since the run of {before.at}{moved}", *found] if found else []


def _changes(step: Step, result: StepResult) -> list[str]:
    where = f"{step.part}: " if step.part else ""
    detail: dict[str, Any] = dict(result.detail)
    if step.stage is Stage.RUNTIME:
        return [f"{where}{result.title}"]
    if step.stage is Stage.DEPENDENCIES:
        after = [*detail.get("laid", ()), *detail.get("kept", ())]
        _, _, words = package_changes(detail.get("before", ()), after)
        return [where + words] if words and detail.get("before") else [where + result.title]
    if step.stage is Stage.SETTINGS:
        return [where + _keys(file, row) for file, row in detail.get("written", {}).items()]
    if step.stage is Stage.MIGRATIONS:
        new = detail.get("new_files", ())
        count = "1 new migration" if len(new) == 1 else f"{len(new)} new migrations"
        more = f" and {len(new) - _NAMED} more" if len(new) > _NAMED else ""
        return [f"{where}{count}: {', '.join(new[:_NAMED])}{more}"] if new else [f"{where}{result.title}"]
    if step.stage in (Stage.SERVER, Stage.PROBE, Stage.ENVIRONMENT):
        return []
    return [f"{where}{result.title}"]


def _keys(file: str, row: dict[str, list[str]]) -> str:
    pieces = [f"{', '.join(row['added'])} added"] if row["added"] else []
    pieces += [f"{', '.join(row['changed'])} changed"] if row["changed"] else []
    return f"{file}: {'; '.join(pieces) or 'written anew'}"
