"""The clone's state folder: what was done, who works on it now, the journal of what was made."""

from __future__ import annotations

import fcntl
import json
import os
import shutil
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from plainfall.errors import CloneBusy, PlainfallError, disk_full_explained
from plainfall.evidence import Evidence
from plainfall.onboarding.events import Event, Making, RunFinished, RunStarted, StepFinished, StepStarted
from plainfall.onboarding.register import Register
from plainfall.repository import exclude_locally
from plainfall.writing import read_json, write_json

__all__ = ["FOLDER", "CloneState", "Journal"]

FOLDER = ".plainfall"
_VERSION = 1


class CloneState:
    """Records by part and stage, and the servers that run. Each change is on disk before the call returns.

    ``clone`` is the clone's folder; nothing is written until ``prepare`` or ``keep`` is called. ``register``
    is the user's, which is told of servers, too.
    """

    def __init__(self, clone: Path, register: Register | None = None) -> None:
        self.clone = clone
        self.register = register
        self.folder = clone / FOLDER
        data = read_json(self.folder / "state.json")
        valid = isinstance(data, dict) and data.get("version") == _VERSION
        self._lock = threading.RLock()  # parts are worked on at the same time
        self._data: dict[str, Any] = data if valid else {"version": _VERSION, "records": {}, "servers": {}}

    def prepare(self) -> None:
        """Makes the state folder and excludes it locally. Raises PlainfallError where that cannot be."""
        try:
            with disk_full_explained("the state folder"):
                self.folder.mkdir(exist_ok=True)
                exclude_locally(self.clone, [f"/{FOLDER}/"])
        except OSError as error:
            raise PlainfallError(
                f"nothing can be kept there: {error.strerror or error}",
                place=Evidence(str(error.filename or self.folder)),
                remedy="Check the owner and mode of the clone's folder, and that its disk can be written.",
            ) from error

    def sweep(self) -> None:
        """Takes away what was being made when a run before was stopped. Only while the clone is held."""
        for name in ("making", "laying"):
            shutil.rmtree(self.folder / name, ignore_errors=True)

    def record(self, part: str, stage: str) -> dict[str, Any]:
        """What was kept for a part's stage; empty if nothing."""
        found = self._data["records"].get(f"{part}|{stage}")
        return dict(found) if isinstance(found, dict) else {}

    def keep(self, part: str, stage: str, record: dict[str, Any]) -> None:
        """Keeps a record (JSON values, no secrets)."""
        with self._lock:
            self._data["records"][f"{part}|{stage}"] = record
            self._write()

    def settings_files(self) -> frozenset[str]:
        """The settings files that Plainfall made, relative to the clone."""
        made: set[str] = set()
        for name, record in self._data["records"].items():
            held = record.get("made", ()) if name.endswith("settings") else ()
            made |= {held} if isinstance(held, str) else set(held)
        return frozenset(made)

    def forget(self, part: str, stage: str) -> None:
        """Drops a record."""
        with self._lock:
            if self._data["records"].pop(f"{part}|{stage}", None) is not None:
                self._write()

    @property
    def servers(self) -> dict[str, dict[str, Any]]:
        """Part to the record of its server."""
        return dict(self._data["servers"])

    def keep_server(self, part: str, record: dict[str, Any] | None) -> None:
        """Keeps or, with None, drops the record of a part's server, here and in the register."""
        with self._lock:
            if record is None:
                self._data["servers"].pop(part, None)
            else:
                self._data["servers"][part] = record
            self._write()
        if self.register is not None and (record is None or record["pid"]):
            self.register.note(self.clone, part, record)

    def log(self, part: str, stage: str) -> Path:
        """The log file of a part's stage."""
        plain = part.replace("/", "-").replace("(", "_").replace(")", "")
        name = f"{plain}-{stage}.log" if part else f"{stage}.log"
        return self.folder / "logs" / name

    def _write(self) -> None:
        self.folder.mkdir(exist_ok=True)
        write_json(self.folder / "state.json", self._data, mode=0o600)

    @contextmanager
    def held(self) -> Iterator[None]:
        """Holds the clone for this process. Raises CloneBusy, naming the holder, if another one has it.

        The lock is the kernel's (flock(2)): it ends with the process, however that ends.
        """
        self.prepare()
        path = self.folder / "lock"
        handle = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        try:
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError as error:
                holder = os.pread(handle, 32, 0).decode(errors="replace").strip() or "?"
                raise CloneBusy(
                    f"another run of Plainfall holds this clone: process {holder}",
                    place=Evidence(str(path)),
                    remedy=f"Wait until it is done, or end it with: kill {holder}",
                ) from error
            os.ftruncate(handle, 0)
            os.pwrite(handle, str(os.getpid()).encode(), 0)
            yield
        finally:
            os.close(handle)


class Journal:
    """A listener that appends to ``journal.jsonl`` what a run does and makes, one JSON object a line."""

    def __init__(self, state: CloneState) -> None:
        self._path = state.folder / "journal.jsonl"

    def __call__(self, event: Event) -> None:
        line = self._line(event)
        if line is None:
            return
        line["at"] = time.strftime("%Y-%m-%dT%H:%M:%S%z")
        handle = os.open(self._path, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
        try:
            os.write(handle, (json.dumps(line, ensure_ascii=False) + "\n").encode())
        finally:
            os.close(handle)

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
