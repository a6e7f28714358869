"""The register of this user's dev servers: which clone's part has which port, and what of it runs.

One file in the user's state folder, changed under a lock. A part gets the port that it had before, if that is
free; otherwise the one that it is meant to have, or the next, but never one that another clone's server holds
or was given a moment ago.
"""

from __future__ import annotations

import time
from collections.abc import Collection, Iterator
from contextlib import contextmanager, nullcontext
from pathlib import Path

from msgspec import Struct, ValidationError, convert, to_builtins

from plainfall.errors import PlainfallError
from plainfall.evidence import Evidence
from plainfall.kept_records import ProcessKept
from plainfall.server.logs import cut_log
from plainfall.server.ports import free_port, is_free
from plainfall.server.process import Running, belonging
from plainfall.writing import locked, read_json, write_json

__all__ = ["Register", "Registered"]

_VERSION = 1
_RESERVED = 90.0  # seconds for which a port that was given counts as taken though nothing listens there yet


class Registered(Struct, frozen=True):
    """A part of a clone: its port, the one that it is meant to have, when the port was given (seconds since
    1970), the address, and the server as it was started (None if it was stopped)."""

    clone: str
    part: str
    port: int
    wanted: int
    given: float
    url: str = ""
    running: Running | None = None

    @property
    def pids(self) -> list[int]:
        """Ids of its live processes."""
        return belonging(self.running) if self.running is not None else []


class Register:
    """The register in a folder, which need not exist yet."""

    def __init__(self, folder: Path) -> None:
        self._file = folder / "servers.json"

    def cut_logs(self) -> None:
        """Keeps the logs of all servers that run to their size."""
        for row in self._read().values():
            if row.running is not None:
                cut_log(Path(row.running.log))

    def every(self) -> list[Registered]:
        """All rows whose clone still exists, or whose server still runs, by clone and part."""
        return sorted(self._read().values(), key=lambda one: (one.clone, one.part))

    def row_of(self, clone: Path, part: str) -> Registered | None:
        """The row of a clone's part."""
        return self._read().get((str(clone), part))

    def port_for(
        self,
        clone: Path,
        part: str,
        wanted: int,
        taken: Collection[int],
        *,
        exactly: bool = False,
        note: bool = True,
    ) -> int:
        """A port for a part, noted as given to it unless ``note`` is off. ``taken`` are ports that other parts of
        the clone have; ``exactly`` asks for the wanted one before the one that it had."""
        key = str(clone), part
        with self._changing() if note else nullcontext(self._read()) as rows:
            others = {row.port for place, row in rows.items() if place != key and _in_use(row)}
            avoided = {*taken, *others}
            before = rows.get(key)
            port = 0
            if before is not None and before.wanted == wanted and not exactly:
                port = before.port if before.port not in avoided and is_free(before.port) else 0
            port = port or free_port(wanted, avoided)
            running = before.running if before is not None else None
            rows[key] = Registered(str(clone), part, port, wanted, time.time(), running=running)
            return port

    def note_stopped(self, clone: Path, part: str) -> None:
        """Notes that a part's server was stopped; its port stays its own."""
        key = str(clone), part
        with self._changing() as rows:
            before = rows.get(key)
            if before is not None:
                rows[key] = Registered(*key, before.port, before.wanted, 0.0)

    def note_started(
        self, clone: Path, part: str, process: ProcessKept, url: str = "", wanted: int = 0
    ) -> None:
        """Notes that a part's server was started, with its address and the port that was wished for (0: its
        own)."""
        key = str(clone), part
        with self._changing() as rows:
            given = rows[key].given if key in rows else 0.0
            running = Running.of_record(process)
            rows[key] = Registered(*key, process.port, wanted or process.port, given, url, running)

    def forget(self, clone: Path) -> None:
        """Drops the rows of a clone of which nothing runs."""
        with self._changing() as rows:
            for key in [key for key, row in rows.items() if key[0] == str(clone) and not row.pids]:
                del rows[key]

    def _read(self) -> dict[tuple[str, str], Registered]:
        data = read_json(self._file)
        rows = data.get("rows") if isinstance(data, dict) and data.get("version") == _VERSION else None
        results = {}
        for row in rows if isinstance(rows, list) else ():
            try:
                running = convert(row["running"], Running) if row["running"] else None
                one = Registered(**{**row, "running": running})
            except (KeyError, TypeError, ValueError, ValidationError):
                continue  # a row that somebody edited: it is dropped
            if Path(one.clone).is_dir() or one.pids:
                results[one.clone, one.part] = one
        return results

    @contextmanager
    def _changing(self) -> Iterator[dict[tuple[str, str], Registered]]:
        try:
            self._file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        except OSError as error:
            raise PlainfallError(
                f"the state folder cannot be used: {error.strerror or error}",
                place=Evidence(str(self._file.parent)),
                remedy="Check its owner and mode, or move it with PLAINFALL_STATE=FOLDER.",
            ) from error
        with locked(self._file.with_suffix(".lock")):
            rows = self._read()
            yield rows
            document = {"version": _VERSION, "rows": [to_builtins(row) for row in rows.values()]}
            write_json(self._file, document, mode=0o600)


def _in_use(row: Registered) -> bool:
    """Whether another clone's port is taken: its server runs, or was given the port a moment ago."""
    if row.given and time.time() - row.given < _RESERVED and row.running is None:
        return True
    return row.running is not None and bool(row.pids)
