"""Reading the source files of a clone: which reader an ending calls for, and never the same file twice."""

from __future__ import annotations

import contextlib
import importlib
import os
import re
from collections.abc import Collection, Iterable, Sequence
from pathlib import Path
from typing import Any

from msgspec import Struct

from plainfall.packages.cache_key import CacheKey
from plainfall.packages.remembered import Remembered
from plainfall.patterns import regex
from plainfall.plain_files import plain_bytes
from plainfall.sources.values import FileFound
from plainfall.tracing import trace
from plainfall.workers import worker_pool

__all__ = ["SourceReader", "read_source", "read_sources"]

_VERSION = 15  # of what the readers find: raised when they find more, so that remembered files are read anew
_LARGEST = 1024 * 1024
_MANY = 300  # below this many files to read, starting a second process costs more than it saves

_ASSIGNED = regex(rb"=[ \t]*['\"`\d]")
_CONSTANT = regex(
    rb"(host|hostname|port|url|uri|addr|address|device|serial|endpoint|server|broker|ip|bind|origin|backend|"
    rb"tty|api)['\"]?\s*(:\s*\w+\s*)?$",
    re.IGNORECASE,
)


class SourceReader(Struct, frozen=True):
    """What reads the files of some endings: ``function`` ("module:name") takes text and path and returns a
    FileFound. ``hints`` are words of which one stands in any file that says something of configuration: other
    files are not parsed (plain searches are many times faster than a pattern over all the words).
    ``configuration`` marks endings of configuration files, which belong to no language."""

    function: str
    endings: tuple[str, ...]
    hints: tuple[str, ...] = ()
    configuration: bool = False

    def read(self, text: str, path: str) -> FileFound:
        """What the file says."""
        module, _, name = self.function.partition(":")
        try:
            result: FileFound = getattr(importlib.import_module(module), name)(text, path)
        except (RecursionError, MemoryError, ValueError, OverflowError) as error:
            # Nesting of thousands, a number of thousands of digits: no person wrote that, and it says nothing.
            trace.debug("%s could not be read: %s", path, error)
            return FileFound(cut=True)
        return result


def _may_read(data: bytes, hints: Collection[str]) -> bool:
    from plainfall.sources.service_addresses import MAY_STAND  # most runs read no file anew

    if any(word.encode() in data for word in hints) or MAY_STAND.search(data):
        return True
    return any(
        _CONSTANT.search(data, max(0, match.start() - 48), match.start())
        for match in _ASSIGNED.finditer(data)
    )


def read_source(text: str, path: str, readers: Iterable[SourceReader]) -> FileFound:
    """What one source says of configuration, by the readers of its ending; nothing for another kind of file."""
    from plainfall.sources.service_addresses import service_addresses

    all_found = [one.read(text, path) for one in readers if path.endswith(one.endings)]
    return FileFound(
        tuple(use for one in all_found for use in one.uses),
        tuple(load for one in all_found for load in one.loads),
        tuple(constant for one in all_found for constant in one.constants),
        any(one.cut for one in all_found),
        addresses=(*(one for found in all_found for one in found.addresses), *service_addresses(text, path)),
    )


def read_sources(
    root: Path, paths: Iterable[str], cache: Path | None, readers: Sequence[SourceReader]
) -> dict[str, FileFound]:
    """What each of the files says (paths relative to ``root``); files that say nothing are left out.

    The ``cache`` folder keeps the answers with each file's size and time, so that an unchanged file is not read
    again; None for none. Files of over 1 MiB, and files that cannot be read, say nothing.
    """
    memory = Remembered(cache) if cache is not None else None
    key = _key(root)
    kept = _kept(memory, key)
    endings = tuple(ending for one in readers for ending in one.endings)
    results: dict[str, FileFound] = {}
    fresh: dict[str, list[Any]] = {}
    unread: list[tuple[str, int, int]] = []
    for path in paths:
        if not path.endswith(endings):
            continue
        try:
            about = os.stat(root / path)
        except OSError:
            continue  # gone since the walk
        row = kept.get(path)
        if row and row[0] == about.st_size and row[1] == about.st_mtime_ns:
            fresh[path] = row
        elif about.st_size <= _LARGEST:
            unread.append((path, about.st_size, about.st_mtime_ns))
    for (path, size, time), record in zip(
        unread, _read_all(root, [one[0] for one in unread], readers), strict=True
    ):
        fresh[path] = [size, time, record]
    for path, row in fresh.items():
        if row[2]:
            results[path] = FileFound.of_record(row[2])
    if memory is not None and (unread or fresh.keys() != kept.keys()):
        # It only spares work: where the cache cannot be written, the files are read again the next time.
        with contextlib.suppress(OSError):
            memory.remember(key, {"version": _VERSION, "files": fresh})
    return results


def _key(root: Path) -> CacheKey:
    """By the folder's identity, too: another clone at the same path is another one."""
    status = os.stat(root)
    return CacheKey.of_machine("sources", str(root), status.st_dev, status.st_ino)


def _kept(memory: Remembered | None, key: CacheKey) -> dict[str, list[Any]]:
    data = memory.recall(key) if memory is not None else None
    if not isinstance(data, dict) or data.get("version") != _VERSION:
        return {}
    files: dict[str, list[Any]] = data["files"]
    return files


def _read_all(root: Path, paths: list[str], readers: Sequence[SourceReader]) -> list[dict[str, Any]]:
    """The records of many files, by several processes where that is quicker."""
    workers = worker_pool() if len(paths) >= _MANY else None
    if workers is None:
        return [_record_of(str(root), path, readers) for path in paths]
    count = len(paths)
    return list(workers.map(_record_of, [str(root)] * count, paths, [readers] * count, chunksize=64))


def _record_of(root: str, path: str, readers: Sequence[SourceReader]) -> dict[str, Any]:
    try:
        data = plain_bytes(os.path.join(root, path), largest=_LARGEST, inside=Path(root))
    except OSError:
        return {}
    if not _may_read(data, {word for one in readers for word in one.hints}):
        return {}
    return read_source(data.decode("utf-8-sig", "replace"), path, readers).as_record()
