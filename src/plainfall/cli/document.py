"""The JSON documents, as docs/json.md describes them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from plainfall.errors import PlainfallError

if TYPE_CHECKING:  # `survey` needs nothing of a run
    from plainfall.clone.parts import PartFound, Survey
    from plainfall.onboarding.running import Outcome
    from plainfall.onboarding.steps import Step, StepResult

__all__ = ["failure_document", "outcome_document", "survey_document"]


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


def _server(part: str, record: dict[str, Any]) -> dict[str, Any]:
    return {
        "part": part,
        "url": record.get("url"),
        "port": record["port"],
        "pid": record["pid"],
        "command": record["command"],
        "log": record["log"],
        "probe": record.get("probe"),
        "attach": record.get("attach"),
    }


def _process(part: str, name: str, record: dict[str, Any]) -> dict[str, Any]:
    return {"part": part, "name": name, **{key: record[key] for key in ("pid", "command", "log")}}


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
    }


def survey_document(survey: Survey, runtimes: dict[str, dict[str, Any]]) -> dict[str, Any]:
    """The document of ``survey --json``; ``runtimes`` holds each part's choice by its path."""
    return {
        "name": survey.name,
        "branch": survey.history,
        "parts": [_part(part, runtimes.get(part.key, {})) for part in survey.parts],
        "readme_steps": [
            {
                "command": step.command,
                "heading": step.heading,
                "stage": step.stage or None,
                "evidence": [step.evidence.as_json()],
            }
            for step in survey.steps
        ],
        "contradictions": [result.as_json() for result in survey.contradictions],
        "examples": [{"path": path, "evidence": [place.as_json()]} for path, place in survey.examples],
        "remarks": [{"text": text, "evidence": [place.as_json()]} for text, place in survey.remarks],
    }


def _part(part: PartFound, runtime: dict[str, Any]) -> dict[str, Any]:
    listed, settings = part.dependencies, part.settings
    document: dict[str, Any] = {
        "key": part.key,
        "path": part.path,
        "language": part.language,
        "evidence": [place.as_json() for place in part.evidence],
        "runtime": {
            "asked": [
                {"text": ask.text, "source": ask.source, "evidence": [ask.evidence.as_json()]}
                for ask in part.asks
            ],
            "chosen": runtime.get("chosen"),
            "candidates": runtime.get("candidates", []),
            "problem": runtime.get("problem"),
            "evidence": [ask.evidence.as_json() for ask in part.asks],
        },
        "dependencies": listed
        and {
            "list": listed.path,
            "kind": listed.kind,
            "count": listed.count,
            "why": listed.reason,
            "others": list(listed.others),
            "extras": list(listed.offered[0]),
            "groups": list(listed.offered[1]),
            "evidence": [listed.evidence.as_json()],
        },
        "settings": settings
        and {
            "template": settings.template,
            "file": settings.target,
            "there": settings.exists,
            "keys": list(settings.keys),
            "evidence": [settings.evidence.as_json()],
        },
    }
    document["frameworks"] = [
        {"name": one.name, "evidence": [one.evidence.as_json()]} for one in part.frameworks
    ]
    for stage in ("migrations", "seeds", "tasks", "server"):
        candidates = [command.as_json() for command in part.candidates(stage)]
        document[stage] = {**candidates[0], "candidates": candidates} if candidates else None
    document["processes"] = [process.as_json() for process in part.processes]
    return document
