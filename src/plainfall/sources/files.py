"""Reading the source files of a clone: which reader an ending calls for, and never the same file twice."""

from __future__ import annotations

import contextlib
import os
import re
from collections.abc import Callable, Iterable, Mapping
from pathlib import Path
from typing import Any

from plainfall.sources.found import FileFound
from plainfall.writing import digest_of, read_json, write_json

__all__ = ["ENDINGS", "memory_file", "read_source", "read_sources"]

# What a language's files are called; templates that hold code of a language belong to it.
ENDINGS: Mapping[str, tuple[str, ...]] = {
    "python": (".py",),
    "node": (".js", ".mjs", ".cjs", ".jsx", ".ts", ".mts", ".cts", ".tsx", ".vue", ".svelte", ".astro"),
    "php": (".php",),
    "ruby": (".rb", ".ru", ".rake"),
}
_CONFIGURATION = (".yml", ".yaml", ".erb")
_VERSION = 2  # of what the readers find: raised when they find more, so that remembered files are read anew
_LARGEST = 1024 * 1024
_MANY = 300  # below this many files to read, starting a second process costs more than it saves

# A file in which none of this stands says nothing of configuration, and is not parsed. Plain searches first:
# they are many times faster than a pattern over all the words.
_WORDS = tuple(
    word.encode()
    for word in "environ getenv process.env meta.env .env ENV[ ENV. ENV& _ENV _SERVER dotenv Dotenv "
    "BaseSettings decouple environs z.object oi.object cleanEnv createEnv env( define( parse_ini_file "
    "json.load toml.load tomllib yaml ConfigParser onfig.get onfigService. YAML JSON.parse "
    "file_get_contents .json' .json\" "
    "config.php".split()
)
_ASSIGNED = re.compile(rb"=[ \t]*['\"`\d]")
_CONSTANT = re.compile(
    rb"(host|hostname|port|url|uri|addr|address|device|serial|endpoint|server|broker|ip|bind|origin|backend|"
    rb"tty|api)['\"]?\s*(:\s*\w+\s*)?$",
    re.IGNORECASE,
)


def _may_read(data: bytes) -> bool:
    if any(word in data for word in _WORDS):
        return True
    return any(
        _CONSTANT.search(data, max(0, found.start() - 48), found.start())
        for found in _ASSIGNED.finditer(data)
    )


def read_source(text: str, path: str) -> FileFound:
    """What one source says of configuration, by its path's ending; nothing for another kind of file."""
    ending = f".{path.rpartition('.')[2]}"
    reader: Callable[[str, str], FileFound]
    if ending in ENDINGS["python"]:
        from plainfall.sources.python import read_python as reader
    elif ending in ENDINGS["node"]:
        from plainfall.sources.javascript import read_javascript as reader
    elif ending in ENDINGS["php"]:
        from plainfall.sources.php import read_php as reader
    elif ending in ENDINGS["ruby"]:
        from plainfall.sources.ruby import read_ruby as reader
    elif ending in _CONFIGURATION:
        from plainfall.sources.embedded import read_embedded as reader
    else:
        return FileFound()
    return reader(text, path)


def read_sources(root: Path, paths: Iterable[str], memory: Path | None) -> dict[str, FileFound]:
    """What each of the files says (paths relative to ``root``); files that say nothing are left out.

    ``memory`` is a file that keeps the answers with each file's size and time, so that an unchanged file is
    not read again; None for none. Files of over 1 MiB, and files that cannot be read, say nothing.
    """
    kept = _remembered(memory)
    found: dict[str, FileFound] = {}
    fresh: dict[str, list[Any]] = {}
    unread: list[tuple[str, int, int]] = []
    for path in paths:
        if not path.endswith(_ALL):
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
    for (path, size, time), record in zip(unread, _read_all(root, [one[0] for one in unread]), strict=True):
        fresh[path] = [size, time, record]
    for path, row in fresh.items():
        if row[2]:
            found[path] = FileFound.of_record(row[2])
    if memory is not None and (unread or fresh.keys() != kept.keys()):
        # It only spares work: where the cache cannot be written, the files are read again the next time.
        with contextlib.suppress(OSError):
            memory.parent.mkdir(parents=True, exist_ok=True)
            write_json(memory, {"version": _VERSION, "files": fresh}, mode=0o600)
    return found


_ALL = tuple(ending for endings in ENDINGS.values() for ending in endings) + _CONFIGURATION


def _remembered(memory: Path | None) -> dict[str, list[Any]]:
    data = read_json(memory) if memory is not None else None
    if not isinstance(data, dict) or data.get("version") != _VERSION:
        return {}
    files: dict[str, list[Any]] = data["files"]
    return files


def memory_file(cache: Path, clone: Path) -> Path:
    """Where the answers for a clone are kept in the user's cache folder."""
    return cache / "sources" / f"{digest_of(str(clone))}.json"


def _read_all(root: Path, paths: list[str]) -> list[dict[str, Any]]:
    """The records of many files, by several processes where that is quicker."""
    count = min(os.cpu_count() or 1, 4)
    if len(paths) < _MANY or count < 2:
        return [_record_of(str(root), path) for path in paths]
    import multiprocessing

    if "fork" not in multiprocessing.get_all_start_methods():
        return [_record_of(str(root), path) for path in paths]
    from concurrent.futures import ProcessPoolExecutor

    with ProcessPoolExecutor(count, mp_context=multiprocessing.get_context("fork")) as pool:
        return list(pool.map(_record_of, [str(root)] * len(paths), paths, chunksize=64))


def _record_of(root: str, path: str) -> dict[str, Any]:
    try:
        with open(os.path.join(root, path), "rb") as file:
            data = file.read()
    except OSError:
        return {}
    if not _may_read(data):
        return {}
    return read_source(data.decode("utf-8-sig", "replace"), path).as_record()
