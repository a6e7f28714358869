"""What Plainfall needs of version control without running it: the repository's folder, the files that it
tracks, the local excludes. The clone's own git is not asked, since its configuration can make git run programs.
"""

from __future__ import annotations

import os
import re
import struct
import subprocess
import threading
from collections.abc import Iterable, Mapping, Sequence
from datetime import UTC, datetime
from functools import cached_property
from pathlib import Path

from msgspec import Struct

from plainfall.confinement import Confined
from plainfall.errors import PathRefused
from plainfall.processes import run

__all__ = [
    "Repository",
    "escaped_path",
    "exclude_locally",
    "head_commit",
    "include_again",
    "last_commit_time",
    "repository_of",
]

_NOTE = "# made by plainfall"
_END = "# the end of what plainfall made"
_COMMIT = re.compile(r"[0-9a-f]{40}|[0-9a-f]{64}")
_LOCK = threading.Lock()  # parts are worked on at the same time
_HEADER = struct.Struct(">4sII")
_ENTRY = struct.Struct(">10I20sH")
_LONGEST = 10.0  # seconds that git may take
_LARGEST_INDEX = 256 * 1024**2  # bytes; that of two million files


class Repository(Struct, frozen=True, dict=True):
    """A repository's work tree (``top``), its own ``folder`` (``.git``, or where a link file of a linked work
    tree or submodule leads), and the ``common`` folder that linked work trees share."""

    top: Path
    folder: Path
    common: Path

    @cached_property
    def tracked(self) -> Mapping[str, tuple[int, int]]:
        """The tracked paths (from ``top``, in UTF-8) with size in bytes and modification time in nanoseconds
        as they were when git last looked. Empty for an index that cannot be read (gitformat-index(5))."""
        return _index(self.folder / "index", self.common)

    def is_tracked(self, path: Path) -> bool:
        """Whether git tracks a file, or anything below a folder."""
        try:
            inner = path.relative_to(self.top).as_posix()
        except ValueError:
            return False
        if inner in self.tracked:
            return True
        return path.is_dir() and any(one.startswith(f"{inner}/") for one in self.tracked)

    def states(self) -> dict[str, tuple[int, int]]:
        """Size and modification time, now, of every tracked existing file."""
        results = {}
        for path in self.tracked:
            try:
                status = os.lstat(self.top / path)
            except OSError:
                continue  # deleted, or in a folder that is gone: told by its absence
            results[path] = status.st_size, status.st_mtime_ns
        return results


def repository_of(clone: Path) -> Repository | None:
    """The repository that a folder is in, following the link file of a linked work tree or submodule
    (gitrepository-layout(5)); None without one. A link file that its repository does not point back to is
    skipped: anybody can write one."""
    real = Path(os.path.realpath(clone))
    for top in (real, *real.parents):
        place = top / ".git"
        if place.is_symlink():
            return None
        if place.is_dir():
            return Repository(top, place, _common(place)) if (place / "HEAD").is_file() else None
        if place.is_file():
            folder = _linked(place)
            return Repository(top, folder, _common(folder)) if folder is not None else None
    return None


def last_commit_time(clone: Path, variables: Mapping[str, str]) -> datetime | None:
    """When the commit that is checked out was made; None without a repository or git.

    Git is asked by a command that reads objects only, with no transport allowed: no setting of the clone makes it
    run a program, and it fetches nothing."""
    repository = repository_of(clone)
    if repository is None:
        return None
    words = [
        "git",
        f"--git-dir={repository.folder}",
        "rev-list",
        "--max-count=1",
        "--timestamp",
        "HEAD",
        "--",
    ]
    guarded = {**variables, "GIT_ALLOW_PROTOCOL": "", "GIT_NO_LAZY_FETCH": "1", "GIT_OPTIONAL_LOCKS": "0"}
    try:
        done = run(words, guarded, folder="/", seconds=_LONGEST)
    except (OSError, subprocess.TimeoutExpired):
        return None
    seconds = done.output.partition(" ")[0]
    if done.status or not seconds.isdigit() or len(seconds) > 11:
        return None
    return datetime.fromtimestamp(int(seconds), UTC)


def head_commit(repository: Repository) -> str:
    """The commit that is checked out, in hex, from the files of the repository alone (gitrepository-layout(5)); ""
    where it has none yet, or cannot be told."""
    head = _text(repository.folder / "HEAD")
    if not head.startswith("ref:"):
        return head if _COMMIT.fullmatch(head) else ""
    name = head.removeprefix("ref:").strip()
    if not name.startswith("refs/") or ".." in name:
        return ""
    for folder in (repository.folder, repository.common):
        text = _text(folder / name)
        if _COMMIT.fullmatch(text):
            return text
    for line in _text(repository.common / "packed-refs").splitlines():
        commit, _, known = line.partition(" ")
        if known == name and _COMMIT.fullmatch(commit):
            return commit
    return ""


def _text(path: Path) -> str:
    try:
        return path.read_text("utf-8", "surrogateescape").strip()
    except (OSError, ValueError):
        return ""


def _linked(place: Path) -> Path | None:
    text = _text(place)
    if not text.startswith("gitdir:"):
        return None
    folder = Path(os.path.realpath(place.parent / text.removeprefix("gitdir:").strip()))
    back = _text(folder / "gitdir")  # of a linked work tree
    if back and os.path.realpath(folder / back) == os.path.realpath(place):
        return folder
    tree = re.search(
        r"^[ \t]*worktree[ \t]*=[ \t]*(\S.*)$", _text(folder / "config"), re.MULTILINE
    )  # of a submodule
    if tree and os.path.realpath(folder / tree.group(1).strip().strip('"')) == str(place.parent):
        return folder
    return None


def _common(folder: Path) -> Path:
    inner = _text(folder / "commondir")
    result = Path(os.path.realpath(folder / inner)) if inner else folder
    # A linked work tree's folder is REPOSITORY/worktrees/NAME, and nothing else shares a folder.
    return result if folder.is_relative_to(result) else folder


def exclude_locally(clone: Path, names: Sequence[str], patterns: Sequence[str] = ()) -> bool:
    """Adds what Plainfall makes to the repository's own exclude file, which is never committed; names
    that stand there stay. ``names`` are paths from the clone ("/.venv/"), or names for any depth below it
    ("__pycache__/"); ``patterns`` are anchored at the clone and may hold what stands for anything ("/log/*.log").
    Returns whether anything was added (never without a repository, or where its exclude file leads out of it)."""
    repository = repository_of(clone)
    if repository is None:
        return False
    inner = Path(os.path.realpath(clone)).relative_to(repository.top).as_posix()
    prefix = "" if inner == "." else f"/{escaped_path(inner)}"
    with _LOCK:
        try:
            rows = [*(_anchored(name, prefix) for name in names), *(f"{prefix}{one}" for one in patterns)]
            return _exclude(repository, rows)
        except PathRefused:
            return False


def escaped_path(path: str) -> str:
    """A path as a pattern that matches just itself (gitignore(5))."""
    return re.sub(r"([\\*?\[])", r"\\\1", path)


def _anchored(name: str, prefix: str) -> str:
    if name.startswith("/"):
        return f"{prefix}/{escaped_path(name[1:])}"
    return f"{prefix}/**/{name}" if prefix else name


def _exclude(repository: Repository, names: Iterable[str]) -> bool:
    confined = Confined(repository.common, "the repository's folder")
    file = confined.target("info/exclude")
    before = file.read_text("utf-8", "surrogateescape") if file.exists() else ""
    standing = {line.strip() for line in before.splitlines()}
    missing = [name for name in dict.fromkeys(names) if name not in standing]
    if not missing:
        return False
    rows = "".join(f"{name}\n" for name in missing)
    if f"{_END}\n" in before:
        head, _, tail = before.rpartition(f"{_END}\n")
        text = f"{head}{rows}{_END}\n{tail}"
    else:
        joint = "" if not before or before.endswith("\n") else "\n"
        text = f"{before}{joint}{_NOTE}\n{rows}{_END}\n"
    confined.write(file, text.encode("utf-8", "surrogateescape"))
    return True


def include_again(clone: Path) -> bool:
    """Takes the lines that ``exclude_locally`` added for a clone out of the repository's exclude file; returns
    whether there were any. Those for other folders of the same repository stay. Where linked work trees share the
    file all stay, since it is not known whose they are."""
    repository = repository_of(clone)
    if repository is None or (repository.common / "worktrees").is_dir():
        return False
    inner = Path(os.path.realpath(clone)).relative_to(repository.top).as_posix()
    prefix = "" if inner == "." else f"/{escaped_path(inner)}/"
    with _LOCK:
        confined = Confined(repository.common, "the repository's folder")
        try:
            file = confined.target("info/exclude")
            text = file.read_text("utf-8", "surrogateescape")
        except (OSError, PathRefused):
            return False
        head, note, rest = text.partition(f"{_NOTE}\n")
        block, end, tail = rest.partition(f"{_END}\n")
        if not note or not end:
            return False
        left = [line for line in block.splitlines(keepends=True) if prefix and not line.startswith(prefix)]
        middle = f"{note}{''.join(left)}{end}" if left else ""
        if head or middle or tail:
            confined.write(file, (head + middle + tail).encode("utf-8", "surrogateescape"))
        else:
            confined.remove(file)  # nobody else wrote it
        return True


def _index(path: Path, common: Path) -> dict[str, tuple[int, int]]:
    """The entries of an index of version 2, 3 or 4, and of the shared one that a split index adds to."""
    try:
        if path.stat().st_size > _LARGEST_INDEX:
            return {}
        data = path.read_bytes()
        results, rest = _entries(data)
        shared = _extension(data, rest, b"link")[:20]
        if any(shared):
            base = common / f"sharedindex.{shared.hex()}"
            results = {**_entries(base.read_bytes())[0], **results}
    except (OSError, ValueError, struct.error, IndexError):
        return {}
    results.pop("", None)  # a split index replaces entries by position, without their names
    return results


def _extension(data: bytes, position: int, wanted: bytes) -> bytes:
    """The content of an extension of an index, which begin at a position; empty if it has none."""
    while position + 8 < len(data) - 20:
        name, size = data[position : position + 4], int.from_bytes(data[position + 4 : position + 8], "big")
        if name == wanted:
            return data[position + 8 : position + 8 + size]
        position += 8 + size
    return b""


def _entries(data: bytes) -> tuple[dict[str, tuple[int, int]], int]:
    signature, version, count = _HEADER.unpack_from(data, 0)
    if signature != b"DIRC" or version not in (2, 3, 4):
        raise ValueError("not an index of a known version")
    results: dict[str, tuple[int, int]] = {}
    position, name = _HEADER.size, b""
    for _ in range(count):
        fields = _ENTRY.unpack_from(data, position)
        start = position + _ENTRY.size + (2 if fields[11] & 0x4000 else 0)
        if version == 4:
            cut, start = _varint(data, start)
            end = data.index(0, start)
            name = name[: len(name) - cut] + data[start:end]
            position = end + 1
        else:
            end = data.index(0, start)
            name = data[start:end]
            position += (end - position + 8) // 8 * 8
        results[name.decode("utf-8", "surrogateescape")] = fields[9], fields[2] * 10**9 + fields[3]
    return results, position


def _varint(data: bytes, position: int) -> tuple[int, int]:
    value = data[position] & 0x7F
    while data[position] & 0x80:
        position += 1
        value = ((value + 1) << 7) | (data[position] & 0x7F)
    return value, position + 1
