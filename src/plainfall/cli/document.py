"""The JSON documents, as docs/json.md describes them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:  # `survey` needs nothing of a run
    from plainfall.clone.parts import PartFound, Survey

__all__ = ["survey_document"]


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
