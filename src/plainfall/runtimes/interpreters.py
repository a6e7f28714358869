"""The interpreters on this machine: where they may lie, and what is remembered about each."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping
from glob import glob
from pathlib import Path
from typing import Any

from msgspec import Struct

from plainfall.packages.cache_key import CacheKey
from plainfall.packages.remembered import Remembered
from plainfall.surroundings import Surroundings
from plainfall.writing import digest_of

__all__ = ["BrokenInterpreter", "Interpreter", "find_interpreters", "identity_of"]

Ask = Callable[[Path], Mapping[str, Any]]

# Patterns below the home folder and below the root under which version folders are kept by convention;
# each is completed by the folder of commands.
_PER_USER = (
    ".*/versions/*/bin",
    ".*/versions/*/*/bin",
    ".*/installs/*/*/bin",
    ".local/bin",
    ".local/opt/*/bin",
    ".local/share/*/versions/*/bin",
    ".local/share/*/installs/*/*/bin",
    ".local/share/*/*/*/bin",
)
_PER_MACHINE = ("usr/local/bin", "usr/bin", "opt/*/bin", "usr/local/opt/*/bin", "opt/*/opt/*/bin")
_FRAMEWORKS = "Library/Frameworks/*.framework/Versions/*/bin"


class Interpreter(Struct, frozen=True):
    """One interpreter: where it was found, the file it really is, its version, and its facts (a mapping
    that the ecosystem defines)."""

    path: Path
    file: Path
    version: str
    facts: Mapping[str, Any]

    @property
    def identity(self) -> str:
        """Changes when the file is replaced by another build."""
        return identity_of(self.file)


class BrokenInterpreter(Struct, frozen=True):
    """A file that looks like an interpreter and does not work, with the reason."""

    path: Path
    reason: str


def identity_of(file: Path) -> str:
    """The file's identity on this machine: path, device, inode, size and modification time."""
    state = file.stat()
    return digest_of(str(file), state.st_dev, state.st_ino, state.st_size, state.st_mtime_ns)


def find_interpreters(
    surroundings: Surroundings, is_name: Callable[[str], bool], ask: Ask, kind: str
) -> list[Interpreter | BrokenInterpreter]:
    """All interpreters of a kind, in the order in which the shell would prefer them, each file once.

    ``is_name`` tells whether a file name is one of theirs; ``ask`` runs one and returns its facts (with
    ``version`` and ``executable``) or raises OSError, ValueError or subprocess errors with the reason.
    Good answers are remembered per file identity in the user's cache under ``kind``; an interpreter that gave
    none (it may only have been interrupted) is asked again the next time.
    """
    cache = Remembered(surroundings.cache)
    remembered: dict[str, Any] = cache.recall(CacheKey.of_machine("interpreters", kind)) or {}
    remembered = {identity: facts for identity, facts in remembered.items() if "broken" not in facts}
    results: list[Interpreter | BrokenInterpreter] = []
    files = _files(surroundings, is_name)
    facts_of = _facts([(candidate, identity) for candidate, _, identity in files], remembered, ask)
    seen = {file for _, file, _ in files}
    for candidate, file, identity in files:
        facts = facts_of[identity]
        if "broken" in facts:
            results.append(BrokenInterpreter(candidate, str(facts["broken"])))
            continue
        real = Path(facts["executable"])
        if real != file:
            if real in seen:
                continue
            seen.add(real)
        results.append(Interpreter(candidate, real, str(facts["version"]), facts))
    good = {identity: facts for identity, facts in facts_of.items() if "broken" not in facts}
    if any(identity not in remembered for identity in good):
        cache.remember(CacheKey.of_machine("interpreters", kind), {**remembered, **good})
    return results


def _files(surroundings: Surroundings, is_name: Callable[[str], bool]) -> list[tuple[Path, Path, str]]:
    """Each executable file once: where it was found first, the file itself, its identity."""
    files: dict[Path, tuple[Path, Path, str]] = {}
    for candidate in _candidates(surroundings, is_name):
        try:
            file = candidate.resolve(strict=True)
            if file not in files and os.access(file, os.X_OK):
                files[file] = (candidate, file, identity_of(file))
        except OSError:
            continue  # a dangling link, or a folder we may not look into: not an interpreter for us
    return list(files.values())


def _facts(wanted: list[tuple[Path, str]], remembered: Mapping[str, Any], ask: Ask) -> dict[str, Any]:
    """The facts by identity: the remembered ones, and the others asked four at a time."""
    facts = {identity: remembered[identity] for _, identity in wanted if identity in remembered}
    unknown = [(candidate, identity) for candidate, identity in wanted if identity not in facts]
    if unknown:
        from concurrent.futures import ThreadPoolExecutor

        with ThreadPoolExecutor(4) as pool:
            answers = pool.map(lambda item: _asked(ask, item[0]), unknown)
            facts.update(zip((identity for _, identity in unknown), answers, strict=True))
    return facts


def _asked(ask: Ask, file: Path) -> dict[str, Any]:
    import subprocess

    try:
        return dict(ask(file))
    except (OSError, ValueError, subprocess.SubprocessError) as error:
        return {"broken": str(error) or type(error).__name__}


def _candidates(surroundings: Surroundings, is_name: Callable[[str], bool]) -> Iterator[Path]:
    for folder in _folders(surroundings):
        try:
            names = sorted(entry.name for entry in os.scandir(folder) if is_name(entry.name))
        except OSError:
            continue  # an entry of the search path need not exist
        # The longest name first: python3.12 says more than python.
        for name in sorted(names, key=len, reverse=True):
            yield Path(folder, name)


def _folders(surroundings: Surroundings) -> list[str]:
    folders: dict[str, None] = {}
    for entry in surroundings.search_path():
        path = Path(entry)
        if path.name == "shims":
            # Scripts that choose a version by the current folder; the real ones are in other folders.
            folders |= dict.fromkeys(_matching(path.parent, "versions/*/bin"))
        elif path.is_absolute():
            folders[entry] = None
    for pattern in _PER_USER:
        folders |= dict.fromkeys(_matching(surroundings.home, pattern))
    for pattern in (*_PER_MACHINE, _FRAMEWORKS):
        folders |= dict.fromkeys(_matching(Path("/"), pattern))
    return list(folders)


def _matching(start: Path, pattern: str) -> list[str]:
    """The paths below a folder; what this user may not look into has none."""
    found = sorted(start / one for one in glob(pattern, root_dir=start, include_hidden=True))
    return [str(folder) for folder in found]
