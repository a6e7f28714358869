"""Brings a repository or an archive to a folder: made beside the place, and moved there as a whole."""

from __future__ import annotations

import json
import os
import re
import shutil
import tempfile
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import psutil
from msgspec import Struct

from plainfall.errors import ArchiveRefused, IntakeFailed, RegistryProblem, UsageProblem, disk_full_explained
from plainfall.intake.fetching import fetch, is_clone_of
from plainfall.intake.sources import Source, project_name, source_of
from plainfall.packages.cache import PackageCache
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.client import Connection, RegistryClient, without_credentials
from plainfall.packages.source_archives import unpack_source
from plainfall.patterns import regex
from plainfall.plain_files import opened_plain, plain_text
from plainfall.repository import repository_of
from plainfall.surroundings import Surroundings
from plainfall.writing import read_json

__all__ = ["Brought", "bring"]

_MARK = "plainfall-intake.json"
_POINTER = b"version https://git-lfs"
# Signs that some file systems leave out of names, so that what looks like another name is `.git` there.
_INVISIBLE = regex("[\u200c-\u200f\u202a-\u202e\u2060-\u206f\ufeff]")
_MOST_POINTERS = 20_000  # files that are looked at


class Brought(Struct, frozen=True):
    """The folder that was named, or that came of what was named; whether it came just now, and what is to be
    said."""

    folder: Path
    is_new: bool = False
    remarks: tuple[str, ...] = ()


def bring(
    named: str, into: str, branch: str, surroundings: Surroundings, tell: Callable[[str], None]
) -> Brought:
    """What a word of the command line means, as a folder. Raises UsageProblem for a place that is something else
    already, IntakeFailed, RegistryProblem, ArchiveRefused, DiskFull."""
    source = source_of(named, surroundings.folder)
    if source.kind == "folder":
        if into or branch:
            raise UsageProblem(
                f"{named} is a folder: --into and --branch are for addresses and archives",
                remedy="Leave them out, or name the address.",
            )
        return Brought(Path(source.address))
    if branch.startswith("-") or (branch and source.kind == "archive"):
        raise UsageProblem(
            f"{branch!r} is no branch" if branch.startswith("-") else "an archive has no branches",
            remedy="Leave --branch out, or name a repository.",
        )
    target = surroundings.folder / (into or source.name)
    there = _there(target, source, surroundings.variables)
    if there is not None:
        return there
    target.parent.mkdir(parents=True, exist_ok=True)
    _sweep(target)
    mark = {"pid": os.getpid(), "started": psutil.Process().create_time()}
    prefix = f".{target.name}-coming-{mark['pid']}-"
    making = Path(tempfile.mkdtemp(prefix=prefix, dir=target.parent))
    try:
        (making / _MARK).write_text(json.dumps(mark))
        with disk_full_explained(f"making {target}"):
            if source.kind == "git":
                made = making / "clone"
                remarks = fetch(source, branch, made, surroundings.variables, tell)
                remarks += _pointers(made)
            else:
                made, remarks = _unpacked(source, making, surroundings, tell)
                if not into and made.name != "files":
                    target = target.with_name(project_name(made.name))
                    there = _there(target, source, surroundings.variables)
                    if there is not None:
                        return there
        if target.is_dir():
            target.rmdir()  # it is empty
        os.rename(made, target)
    finally:
        shutil.rmtree(making, ignore_errors=True)
    return Brought(target, True, tuple(remarks))


def _there(target: Path, source: Source, variables: Mapping[str, str]) -> Brought | None:
    """A folder that is this clone already, None for a place that is free. Raises UsageProblem for anything else."""
    if not os.path.lexists(target) or (
        target.is_dir() and not target.is_symlink() and not any(target.iterdir())
    ):
        return None
    if source.kind == "git" and target.is_dir() and is_clone_of(target, source, variables):
        return Brought(target, False, (f"{target} is a clone of it already, and is taken as it is",))
    raise UsageProblem(
        f"{target} exists already, and is no clone of {without_credentials(source.address)}",
        remedy="Name another folder with --into, or that folder itself.",
    )


def _sweep(target: Path) -> None:
    """Takes away what a run that was killed left half-made here: folders with our mark whose process has ended."""
    for place in target.parent.glob(f".{target.name}-coming-*"):
        mark = read_json(place / _MARK) if place.is_dir() and not place.is_symlink() else None
        if isinstance(mark, dict) and not _is_at_work(mark):
            shutil.rmtree(place, ignore_errors=True)
        elif mark is None and _ended_before_its_mark(place):
            place.rmdir()


def _ended_before_its_mark(place: Path) -> bool:
    """Whether a folder is empty, and of a process that ended before it could write into it."""
    number = re.search(r"-coming-(\d{1,9})-[^-]*$", place.name)
    return (
        number is not None
        and place.is_dir()
        and not place.is_symlink()
        and not psutil.pid_exists(int(number.group(1)))
        and not any(place.iterdir())
    )


def _is_at_work(mark: Mapping[str, Any]) -> bool:
    """Whether the process that wrote a mark still runs."""
    try:
        return bool(psutil.Process(int(mark["pid"])).create_time() == mark["started"])
    except (psutil.Error, KeyError, ValueError, TypeError):
        return False  # it has ended, or the mark is none


def _unpacked(
    source: Source, making: Path, surroundings: Surroundings, tell: Callable[[str], None]
) -> tuple[Path, list[str]]:
    """The archive's files, without the one folder that is wrapped around them; and what is to be said."""
    file = Path(source.address) if source.is_here else making / Path(source.name).name
    if not source.is_here:
        file = _downloaded(source, making, surroundings, tell)
    tell("unpacking")
    folder = making / "files"
    folder.mkdir()
    try:
        made = unpack_source(file, folder)
    except ArchiveRefused as error:
        raise ArchiveRefused(
            f"{without_credentials(source.address)}: {error.cause}",
            remedy=error.remedy or "Nothing of it was kept. Get the archive again, or clone the repository.",
        ) from error
    if all((made / name).exists() for name in ("HEAD", "objects", "refs")):
        raise ArchiveRefused(
            f"{without_credentials(source.address)} holds a bare repository, not a project: its configuration "
            "can make git run programs as soon as git is used in that folder",
            remedy="Clone the repository by its address instead. Nothing of it was kept.",
        )
    said = ["an archive has no history: what changes later comes by a new archive, not by a pull"]
    inner = [Path(root, name) for root, folders, names in os.walk(made) for name in (*folders, *names)
             if _INVISIBLE.sub("", name).lower() in (".git", "git~1")]  # fmt: skip
    for place in inner:
        shutil.rmtree(place) if place.is_dir() and not place.is_symlink() else place.unlink()
    if inner:
        said.append("its .git was left out: one that comes in an archive can make git run programs")
    return made, said


def _downloaded(
    source: Source, making: Path, surroundings: Surroundings, tell: Callable[[str], None]
) -> Path:
    """The archive at an address; where an earlier try was cut off, it goes on."""
    client = RegistryClient(Connection(), surroundings.variables)
    size = [0]

    def received(count: int) -> None:
        size[0] += count
        tell(f"fetched {size[0] / 1024**2:.1f} MB")

    ending = "".join(Path(source.address.partition("?")[0]).suffixes[-2:])
    place = (
        making
        / f"{source.name}{ending if ending.lower().endswith(('zip', 'gz', 'bz2', 'xz', 'tar')) else ''}"
    )
    try:
        with PackageCache(surroundings.cache).partial(
            CacheKey.of_statement("intake", [source.address])
        ) as partial:
            client.download(source.address, partial, {}, received)
            shutil.move(partial, place)
    except RegistryProblem as error:
        raise IntakeFailed(
            f"{without_credentials(source.address)}: {error.cause}",
            lines=error.lines,
            remedy="What came by now is kept: run the same command again to go on."
            if size[0]
            else error.remedy,
        ) from error
    finally:
        client.close()
    return place


def _pointers(folder: Path) -> list[str]:
    """Files whose content lies in a large-file store: only pointers to it were fetched."""
    attributes = folder / ".gitattributes"
    if not attributes.is_file() or "filter=lfs" not in plain_text(attributes, "utf-8", "replace"):
        return []
    repository = repository_of(folder)
    found = []
    for path in list(repository.tracked)[:_MOST_POINTERS] if repository is not None else ():
        file = folder / path
        try:
            if file.is_symlink() or not file.is_file() or file.stat().st_size > 400:
                continue
            with opened_plain(file) as opened:
                if opened.read(len(_POINTER)) == _POINTER:
                    found.append(str(path))
        except OSError:
            continue  # it cannot be read: what needs it says so
    if not found:
        return []
    shown = ", ".join(found[:4]) + (f" and {len(found) - 4} more" if len(found) > 4 else "")
    noun = "1 file is" if len(found) == 1 else f"{len(found)} files are"
    return [f"{noun} only a pointer to a large-file store ({shown}): git lfs pull brings the content"]
