"""What came of a run: as values, as the document that programs read, and as the record that stays in the clone."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Any

from msgspec import Struct, field

from plainfall.clone.parts import Contradiction, Survey
from plainfall.errors import PlainfallError
from plainfall.kept_records import LastRun, ProcessKept, ServerKept
from plainfall.onboarding.part.steps import State, Step, StepResult
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.records.state import FOLDER, CloneState
from plainfall.settings.setting import Setting

__all__ = ["Outcome", "RunRecord", "failure_document", "note_run_record", "outcome_document", "run_record"]

_NAME = "runs.json"
_RUNS = 20  # that are remembered in a line each


class Outcome(Struct):
    """The record of a run. ``outcome`` is "done", "failed" or "open"; ``steps`` holds each step with its
    result and seconds, in order; ``servers`` the servers that are up, by part; ``contradictions`` those of
    the survey and of the settings; ``works`` what each part's steps left behind, by part; ``processes`` what
    runs beside the servers, by part and name; ``remarks`` are about
    the clone as a whole, ``changes`` say what changed since the run before;
    ``is_first`` tells that there was none; ``choices`` are those of each part, with what else could be."""

    clone: Path
    survey: Survey
    outcome: str = "done"
    seconds: float = 0.0
    steps: list[tuple[Step, StepResult, float]] = field(default_factory=list)
    servers: dict[str, ServerKept] = field(default_factory=dict)
    open_settings: list[Setting] = field(default_factory=list)
    failure: tuple[Step, PlainfallError] | None = None
    contradictions: list[Contradiction] = field(default_factory=list)
    works: dict[str, Work] = field(default_factory=dict)
    processes: dict[tuple[str, str], ProcessKept] = field(default_factory=dict)
    remarks: list[str] = field(default_factory=list)
    changes: list[str] = field(default_factory=list)
    is_first: bool = False
    choices: dict[str, list[dict[str, Any]]] = field(default_factory=dict)


class RunRecord(Struct, frozen=True):
    """The record of a clone's runs: the document of the last one; each step's row as it was when the step was last
    carried out, by part, stage and number; and the last runs in a line each (``at``, ``outcome``, ``seconds``,
    ``commit``, ``failure``)."""

    last: dict[str, Any]
    done: dict[str, dict[str, Any]]
    runs: list[dict[str, Any]]


def note_run_record(state: CloneState, outcome: Outcome) -> None:
    """Keeps the record of a run that has ended. The clone is locked by the caller."""
    before = run_record(state)
    done = dict(before.done) if before is not None else {}
    for key, (step, result, seconds) in zip(_keys(outcome), outcome.steps, strict=True):
        if result.state in (State.DONE, State.FAILED) or key not in done:
            done[key] = {**_step(step, result, seconds), "at": time.strftime("%Y-%m-%d %H:%M")}
    document = outcome_document(outcome)
    failure = document["failure"]
    row = {
        "at": time.strftime("%Y-%m-%d %H:%M"),
        "outcome": outcome.outcome,
        "seconds": round(outcome.seconds, 3),
        "commit": state.read("", LastRun).commit,
        "failure": failure and {name: failure[name] for name in ("step", "cause", "remedy")},
    }
    runs = [*(before.runs if before is not None else ()), row][-_RUNS:]
    content = {"last": document, "done": done, "runs": runs}
    state.confined.write(f"{FOLDER}/{_NAME}", state.seal.text(_NAME, content), mode=0o600)


def run_record(state: CloneState) -> RunRecord | None:
    """The record of the clone's runs; None where there is none of this user's."""
    found = state.seal.read_file(state.folder / _NAME, _NAME)
    content = found.content if found is not None else None
    if not isinstance(content, dict) or not {"last", "done", "runs"} <= content.keys():
        return None
    return RunRecord(content["last"], content["done"], content["runs"])


def _keys(outcome: Outcome) -> list[str]:
    """A key for each step: its part and stage, and its number among those of the stage."""
    seen: dict[tuple[str, str], int] = {}
    keys = []
    for step, _, _ in outcome.steps:
        place = step.part, step.stage.value
        seen[place] = seen.get(place, 0) + 1
        keys.append(f"{step.part}|{step.stage.value}|{seen[place]}")
    return keys


def outcome_document(outcome: Outcome) -> dict[str, Any]:
    """The document of ``onboard --json``."""
    failure = outcome.failure
    return {
        "outcome": outcome.outcome,
        "clone": str(outcome.clone),
        "seconds": round(outcome.seconds, 3),
        "steps": [_step(step, result, seconds) for step, result, seconds in outcome.steps],
        "servers": [_server(part, record) for part, record in outcome.servers.items()],
        "open_settings": [setting.as_json() for setting in outcome.open_settings],
        "remarks": [text for text, _ in outcome.survey.remarks] + outcome.remarks,
        "contradictions": [candidate.as_json() for candidate in outcome.contradictions],
        "changes": outcome.changes,
        "choices": outcome.choices,
        "processes": [_process(*key, record) for key, record in outcome.processes.items()],
        "failure": failure_document(*failure) if failure else None,
    }


def _step(step: Step, result: StepResult, seconds: float) -> dict[str, Any]:
    return {
        "part": step.part,
        "stage": step.stage.value,
        "title": result.title,
        "state": result.state.value,
        "seconds": round(seconds, 4),
        "why": result.why,
        "evidence": [place.as_json() for place in result.evidence],
        "remarks": [*result.remarks, *result.notes],
        "detail": dict(result.detail),
    }


def _server(part: str, record: ServerKept) -> dict[str, Any]:
    return {
        "part": part,
        "url": record.url or None,
        "port": record.port,
        "pid": record.pid,
        "command": record.command,
        "log": record.log,
        "probe": record.probe,
        "attach": record.attach,
    }


def _process(part: str, name: str, record: ProcessKept) -> dict[str, Any]:
    row = {"part": part, "name": name}
    return {**row, "pid": record.pid, "command": record.command, "log": record.log}


def failure_document(step: Step | None, error: PlainfallError) -> dict[str, Any]:
    """The ``failure`` of a document."""
    return {
        "step": {"part": step.part, "stage": step.stage.value} if step else None,
        "kind": type(error).__name__,
        "cause": error.cause,
        "evidence": [error.place.as_json()] if error.place else [],
        "lines": list(error.lines),
        "remedy": error.remedy,
        "log": error.log,
        "recognised_as": str(error.rule),
        "facts": {
            name: getattr(error.facts, name)
            for name in error.facts.__struct_fields__
            if getattr(error.facts, name)
        },
    }
