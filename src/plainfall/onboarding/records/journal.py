"""The journal of a clone: what its runs did and made."""

from __future__ import annotations

import json
import os
import time
from typing import IO, Any

from plainfall.onboarding.part.events import Event, Making, RunFinished, RunStarted, StepFinished, StepStarted
from plainfall.onboarding.records.state import FOLDER, CloneState

__all__ = ["Journal"]


class Journal:
    """A listener that appends to ``journal.jsonl`` what a run does and makes, one JSON object per line."""

    def __init__(self, state: CloneState) -> None:
        self._state = state

    def __call__(self, event: Event) -> None:
        line = self._line(event)
        if line is None:
            return
        line["at"] = time.strftime("%Y-%m-%dT%H:%M:%S%z")
        flags = os.O_WRONLY | os.O_CREAT | os.O_APPEND
        handle = self._state.confined.open(f"{FOLDER}/journal.jsonl", flags, 0o600)
        file: IO[bytes]
        with open(handle, "ab") as file:
            file.write((json.dumps(line, ensure_ascii=False) + "\n").encode("utf-8", "replace"))

    def _line(self, event: Event) -> dict[str, Any] | None:
        if isinstance(event, RunStarted):
            return {"event": "run started", "process": os.getpid(), "steps": len(event.steps)}
        if isinstance(event, StepStarted):
            return {"event": "step started", "part": event.step.part, "stage": event.step.stage.value}
        if isinstance(event, Making):
            return {"event": "making", "kind": event.kind, "path": event.path}
        if isinstance(event, StepFinished):
            return {
                "event": "step finished",
                "part": event.step.part,
                "stage": event.step.stage.value,
                "state": event.result.state.value,
                "title": event.result.title,
                "seconds": round(event.seconds, 3),
                "cause": str(event.error) if event.error else None,
            }
        if isinstance(event, RunFinished):
            return {"event": "run finished", "outcome": event.outcome, "seconds": round(event.seconds, 3)}
        return None
