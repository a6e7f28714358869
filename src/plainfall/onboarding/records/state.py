"""The clone's state folder: what was done, who works on it now, the journal of what was made.

Its contents are used only if this user's Plainfall wrote it for this very folder (``sealing``). A folder of that
name that somebody else made is set aside; that of a copied or moved clone gives up what is the old one's
(servers, ports, steps that were under way) and keeps what is true of the files that came along.
"""

from __future__ import annotations

import fcntl
import json
import os
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from msgspec.structs import replace

from plainfall.confinement import Confined
from plainfall.errors import CloneBusy, ForeignState, PlainfallError, disk_full_explained
from plainfall.evidence import Evidence
from plainfall.kept_records import (
    DataStep,
    MadeKept,
    ProcessKept,
    R,
    Record,
    ServerKept,
    ServiceKept,
    SettingsWritten,
    as_stored,
    read_stored,
)
from plainfall.onboarding.records.copied import adopted
from plainfall.ownership import owned_or_quiet
from plainfall.repository import Repository, exclude_locally, repository_of
from plainfall.sealing import Seal
from plainfall.server.control_group import sweep_groups
from plainfall.writing import digest_of

if TYPE_CHECKING:
    from plainfall.onboarding.records.register import Register

__all__ = ["FOLDER", "CloneState"]

FOLDER = ".plainfall"
_RECORDS = "state.json"
_VERSION = 2
# What a copied clone does not take over: it is about the old folder's processes and steps.
_LEFT_BEHIND = ("guard", "making", "laying", "commands", "lock")


class CloneState:
    """Records by part and stage, and the servers and commands that run. Each change is on disk before the call
    returns.

    ``clone`` is the clone's folder, ``user_state`` the user's state folder; nothing is written until ``prepare``
    or ``keep`` is called. ``remarks`` names what lies in the state folder and is not used.
    """

    def __init__(self, clone: Path, user_state: Path) -> None:
        self.clone = clone
        self._user_state = user_state
        self.confined = Confined(clone)
        self.seal = Seal(user_state, clone)
        self.folder = clone / FOLDER
        self.remarks: list[str] = []
        self._lock = threading.RLock()  # parts are worked on at the same time
        self._refusal = ""
        self._foreign = False
        self._data: dict[str, Any] = {}
        self._repository: Repository | None = None
        self._load()

    @cached_property
    def register(self) -> Register:
        """This user's ports and servers (imported here, since a survey needs none of it)."""
        from plainfall.onboarding.records.register import Register

        return Register(self._user_state)

    def _load(self) -> None:
        """Reads the valid records; remarks on the others."""
        self._data = {"version": _VERSION, "records": {}, "servers": {}, "commands": {}}
        self._repository = repository_of(self.clone)
        self.remarks, self._refusal, self._foreign = [], "", False
        if self.folder.is_symlink():
            self._refusal = f"it is a link, to {os.readlink(self.folder)}"
        elif self.folder.exists() and not self.folder.is_dir():
            self._refusal = "it is not a folder"
        elif self._repository is not None and self._repository.is_tracked(self.confined.root / FOLDER):
            self._refusal = "the repository tracks it"
        elif self.folder.is_dir():
            self._read()

    def _read(self) -> None:
        result = self.seal.read_file(self.folder / _RECORDS, _RECORDS)
        content = result.content if result is not None else None
        if not isinstance(content, dict) or content.get("version") != _VERSION or result is None:
            try:
                # Of a clearing that was cut off these are left last.
                self._foreign = any(one.name not in ("lock", "before.json") for one in self.folder.iterdir())
            except OSError:
                self._refusal = "it cannot be read"
            if self._foreign:
                self.remarks.append(
                    f"{FOLDER} was not written by your Plainfall for this folder: nothing in it counts, and it is "
                    "set aside"
                )
        elif result.here:
            self._data = content
        else:
            self._data = adopted(content, result.folder, self.confined.root)
            self.remarks.append(
                f"this clone was copied or moved from {result.folder}: its settings, migrations and seeds are "
                "taken over, its servers and ports are not"
            )

    def is_known(self) -> bool:
        """Whether the state folder holds records that this user's Plainfall wrote."""
        return self.folder.is_dir() and not self._refusal and not self._foreign

    def prepare(self) -> None:
        """Makes the state folder and excludes it locally. Raises ForeignState for one that must not be touched,
        PathRefused for root in the clone of somebody who is at work, PlainfallError where none can be made."""
        owned_or_quiet(self.clone)
        with self._lock:
            self._load()
            if self._refusal:
                raise ForeignState(
                    f"nothing can be kept there: {self._refusal}",
                    place=Evidence(str(self.folder)),
                    remedy="Plainfall keeps its records there. Look at what it is, and take it away (git rm -r "
                    f"--cached {FOLDER}, if it is tracked).",
                )
            try:
                with disk_full_explained("the state folder"):
                    if self._foreign:
                        self._set_aside()
                    self.confined.own_folder(FOLDER)
                    if self.seal.read_file(self.folder / _RECORDS, _RECORDS) is None or self.remarks:
                        for name in _LEFT_BEHIND if not self._foreign else ():
                            self.confined.remove(f"{FOLDER}/{name}")
                        self._write()
                    exclude_locally(self.clone, [f"/{FOLDER}/"])
            except OSError as error:
                raise PlainfallError(
                    f"nothing can be kept there: {error.strerror or error}",
                    place=Evidence(str(error.filename or self.folder)),
                    remedy="Check the owner and mode of the clone's folder, and that its disk can be written.",
                ) from error

    def _set_aside(self) -> None:
        number = 1
        while os.path.lexists(self.clone / f"{FOLDER}-not-ours-{number}"):
            number += 1
        name = f"{FOLDER}-not-ours-{number}"
        self.confined.rename(FOLDER, name)
        exclude_locally(self.clone, [f"/{name}/"])
        self.remarks = [f"{self.remarks[0]}: {name}"]

    def sweep(self) -> None:
        """Removes what was being made when a run before was stopped. Only while the clone is locked."""
        for name in ("making", "laying"):
            self.confined.remove(f"{FOLDER}/{name}")
        sweep_groups()

    def is_tracked(self, path: Path) -> bool:
        """Whether version control tracks a file of the clone, or anything below a folder."""
        return self._repository is not None and self._repository.is_tracked(self.confined.resolve(path))

    @property
    def repository(self) -> Repository | None:
        """The repository that the clone is in."""
        return self._repository

    def kept(self, part: str, kind: type[R], name: str = "") -> R | None:
        """What was kept of a kind for a part ("" for the clone), under the kind's name or another one; None if
        nothing was, or what cannot be read."""
        return read_stored(self._data["records"].get(f"{part}|{name or kind.NAME}"), kind)

    def read(self, part: str, kind: type[R], name: str = "") -> R:
        """As ``kept``; where nothing was kept, a record without values."""
        return self.kept(part, kind, name) or kind()

    def keep(self, part: str, record: Record, name: str = "") -> None:
        """Keeps a record (no secrets) in the place of the one before."""
        with self._lock:
            self._data["records"][f"{part}|{name or record.NAME}"] = as_stored(record)
            self._write()

    def step_of(self, part: str, mark: str) -> DataStep | None:
        """The step on a part's database that is done, and whose processes bore a mark."""
        steps = (self.kept(part, DataStep, name) for name in (DataStep.NAME, DataStep.SEEDS))
        return next((step for step in steps if step is not None and step.mark == mark), None)

    def databases(self) -> set[str]:
        """The database files on which steps of any part ran."""
        records = self._data["records"].items()
        of_steps = (DataStep.NAME, DataStep.SEEDS)
        steps = [read_stored(row, DataStep) for name, row in records if name.rpartition("|")[2] in of_steps]
        return {step.database for step in steps if step is not None and step.database}

    def has_records(self) -> bool:
        """Whether a run before kept anything."""
        return bool(self._data["records"] or self._data["servers"])

    @property
    def made(self) -> dict[str, MadeKept]:
        """What Plainfall made in the clone, by path from there."""
        return self._rows("made", MadeKept)

    def keep_made(self, path: str, kind: str, **more: Any) -> None:
        """Notes that something is about to be made, or changed; what was noted of it before stays."""
        with self._lock:
            before = read_stored(self._data.get("made", {}).get(path), MadeKept) or MadeKept()
            row = replace(before, kind=kind, **more)
            if row != before:
                self._data.setdefault("made", {})[path] = as_stored(row)
                self._write()

    def _rows(self, name: str, kind: type[R]) -> dict[str, R]:
        """The records of one of the tables of running and made things; those that cannot be read are left out."""
        rows = {key: read_stored(row, kind) for key, row in self._data.get(name, {}).items()}
        return {key: row for key, row in rows.items() if row is not None}

    def settings_files(self) -> frozenset[str]:
        """The settings files that Plainfall made, relative to the clone."""
        made: set[str] = set()
        for name, row in self._data["records"].items():
            if name.rpartition("|")[2] in (SettingsWritten.NAME, SettingsWritten.SHARED):
                record = read_stored(row, SettingsWritten)
                made |= set(record.files if record is not None else ())
        return frozenset(made)

    def forget(self, part: str, kind: type[Record]) -> None:
        """Drops a record."""
        with self._lock:
            if self._data["records"].pop(f"{part}|{kind.NAME}", None) is not None:
                self._write()

    @property
    def servers(self) -> dict[str, ServerKept]:
        """Part to the record of its server."""
        return self._rows("servers", ServerKept)

    def keep_server(self, part: str, record: ServerKept | None) -> None:
        """Keeps or, with None, drops the record of a part's server, here and in the register."""
        with self._lock:
            if record is None:
                self._data["servers"].pop(part, None)
            else:
                self._data["servers"][part] = as_stored(record)
            self._write()
        if record is None:
            self.register.note_stopped(self.clone, part)
        elif record.pid:
            self.register.note_started(self.clone, part, record, record.url, record.wanted)

    @property
    def second_processes(self) -> dict[tuple[str, str], ProcessKept]:
        """Part and name to the record of each process that was started beside a server."""
        records = self._rows("second processes", ProcessKept)
        return {(key.rpartition("|")[0], key.rpartition("|")[2]): record for key, record in records.items()}

    def keep_second_process(self, part: str, name: str, record: ProcessKept | None) -> None:
        """Keeps or, with None, drops such a record."""
        with self._lock:
            records = self._data.setdefault("second processes", {})
            if record is None:
                records.pop(f"{part}|{name}", None)
            else:
                records[f"{part}|{name}"] = as_stored(record)
            self._write()

    @property
    def services(self) -> dict[str, ServiceKept]:
        """Name to the record of each private server of the clone, and of servers that are used as they are."""
        return self._rows("services", ServiceKept)

    def keep_service(self, name: str, record: ServiceKept) -> None:
        """Keeps such a record; the data of one that does not run is found by it."""
        with self._lock:
            self._data.setdefault("services", {})[name] = as_stored(record)
            self._write()

    @property
    def commands(self) -> dict[str, tuple[str, str]]:
        """The marks of the project's commands that were started and not seen to end, with their lines and control
        groups."""
        return {mark: (line, group) for mark, (line, group) in self._data["commands"].items()}

    def keep_command(self, mark: str, line: str | None, group: str = "") -> None:
        """Notes that a command is started, before it is; with None, that it and all it started has ended."""
        with self._lock:
            if line is None:
                self._data["commands"].pop(mark, None)
            else:
                self._data["commands"][mark] = [line, group]
            self._write()

    @staticmethod
    def name_of(part: str) -> str:
        """A part's name on the disk, which no other part has."""
        name = quote(os.fsencode(part), safe="() ")
        if len(name) > 150:
            name = f"{name[:100]}-{digest_of(part)}"
        return "top" if not part else "top%2F" if name == "top" else name

    def log(self, part: str, stage: str) -> Path:
        """The log file of a part's stage."""
        name = f"{self.name_of(part)}-{stage}.log" if part else f"{stage}.log"
        return self.folder / "logs" / name

    def open_log(self, part: str, stage: str) -> int:
        """A descriptor of that file, emptied, readable by the user alone; what is written goes to its end."""
        flags = os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_APPEND
        return self.confined.open(self.log(part, stage), flags, 0o600)

    def accounts(self) -> dict[str, Any]:
        """The accounts that were made, by part."""
        try:
            handle = self.confined.open(f"{FOLDER}/accounts.json", os.O_RDONLY)
            with open(handle, "rb") as file:
                known = json.loads(file.read())
        except (OSError, ValueError, PlainfallError):
            return {}
        return known if isinstance(known, dict) else {}

    def keep_accounts(self, known: dict[str, Any]) -> None:
        """Keeps them, readable by the user alone."""
        self.confined.write_json(f"{FOLDER}/accounts.json", known, mode=0o600)

    def _write(self) -> None:
        self.confined.own_folder(FOLDER)
        self.confined.write(f"{FOLDER}/{_RECORDS}", self.seal.text(_RECORDS, self._data), mode=0o600)

    @contextmanager
    def locked(self) -> Iterator[None]:
        """Locks the clone for this process. Raises CloneBusy, naming the holder, if another one has it, and
        what ``prepare`` raises.

        The lock is the kernel's (flock(2)): it ends with the process, however that ends.
        """
        self.prepare()
        self.register.cut_logs()
        remarks = self.remarks
        path = self.folder / "lock"
        handle = self.confined.open(path, os.O_RDWR | os.O_CREAT, 0o600)
        try:
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError as error:
                holder = os.pread(handle, 32, 0).decode(errors="replace").strip()
                holder = holder if holder.isdigit() else "?"
                raise CloneBusy(
                    f"another run of Plainfall holds this clone: process {holder}",
                    place=Evidence(str(path)),
                    remedy=f"Wait until it is done, or end it with: kill {holder}",
                ) from error
            os.ftruncate(handle, 0)
            os.pwrite(handle, str(os.getpid()).encode(), 0)
            self._load()  # another run may have changed it until now
            self.remarks = remarks
            yield
        finally:
            os.close(handle)
