"""What Plainfall needs of version control without running it: the repository's folder, the files that it
tracks, the local excludes. The clone's own git is not asked, since its configuration can make git run programs.
"""

from __future__ import annotations

import os
import re
import subprocess
import threading
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from functools import cached_property
from pathlib import Path

from msgspec import Struct

from plainfall.confinement import Confined
from plainfall.errors import PathRefused
from plainfall.plain_files import plain_text
from plainfall.processes import run
from plainfall.repository_index import read_index
from plainfall.surroundings import Surroundings, passed_on

__all__ = [
    "Repository",
    "escaped_path",
    "exclude_locally",
    "head_commit",
    "include_again",
    "last_commit_day",
    "last_commit_time",
    "repository_of",
]

_NOTE = "# made by plainfall"
_END = "# the end of what plainfall made"
_COMMIT = re.compile(r"[0-9a-f]{40}|[0-9a-f]{64}")
_LOCK = threading.Lock()  # parts are worked on at the same time
_OBJECT_FORMAT = re.compile(r"^[ \t]*objectformat[ \t]*=[ \t]*\"?sha256", re.MULTILINE | re.IGNORECASE)
_READ_FIRST = ("HEAD", "commondir", "config", "config.worktree", "gitdir", "index", "packed-refs", "shallow")
_LONGEST = 10.0  # seconds that git may take
_LARGEST_TEXT = 16 * 1024**2  # bytes of a file of the repository's folder; packed references are the longest


class Repository(Struct, frozen=True, dict=True):
    """A repository's work tree (``top``), its own ``folder`` (``.git``, or where a link file of a linked work
    tree or submodule leads), and the ``common`` folder that linked work trees share. ``is_link`` tells that
    ``.git`` is a symbolic link: then it is read, and nothing is written into it."""

    top: Path
    folder: Path
    common: Path
    is_link: bool = False

    @property
    def has_plain_files(self) -> bool:
        """Whether the files that git itself reads first are files: it would wait for ever at a pipe."""
        names = [*_READ_FIRST, _text(self.folder / "HEAD").removeprefix("ref:").strip() or "HEAD"]
        places = [folder / name for folder in (self.folder, self.common) for name in names]
        return all(place.is_file() for place in places if os.path.lexists(place))

    @cached_property
    def _entries(self) -> Mapping[str, tuple[int, int]] | None:
        sha256 = _OBJECT_FORMAT.search(_text(self.common / "config"))
        return read_index(self.folder / "index", self.common, 32 if sha256 else 20)

    @property
    def tracked(self) -> Mapping[str, tuple[int, int]]:
        """The tracked paths (from ``top``, in UTF-8) with size in bytes and modification time in nanoseconds
        as they were when git last looked. Empty for an index that cannot be read (gitformat-index(5)): there
        ``is_tracked`` holds of all that exists."""
        return self._entries or {}

    def is_tracked(self, path: Path) -> bool:
        """Whether git tracks a file, or anything below a folder. What lies in a repository within this one (a
        submodule) is that one's to tell; where an index cannot be read, what exists counts as tracked."""
        try:
            inner = path.relative_to(self.top).as_posix()
        except ValueError:
            return False
        entries = self._entries
        if entries is None:
            return os.path.lexists(path)
        if inner in entries or any(f"{above}/" in entries for above in _above(inner)):
            return True  # a sparse index has whole folders as one entry
        for folder in path.parents:
            if folder == self.top or not folder.is_relative_to(self.top):
                break
            if os.path.lexists(folder / ".git"):
                nested = _repository_at(folder)
                return nested.is_tracked(path) if nested is not None else os.path.lexists(path)
        return path.is_dir() and any(one.startswith(f"{inner}/") for one in entries)

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
    top = next((one for one in (real, *real.parents) if os.path.lexists(one / ".git")), None)
    return _repository_at(top) if top is not None else None


def _repository_at(top: Path) -> Repository | None:
    """The repository whose ``.git`` stands in a folder; None where that is none."""
    place = top / ".git"
    if place.is_dir():
        folder = Path(os.path.realpath(place))
        if not (folder / "HEAD").is_file():
            return None
        return Repository(top, folder, _common(folder), place.is_symlink())
    linked = _linked(place) if place.is_file() and not place.is_symlink() else None
    return Repository(top, linked, _common(linked)) if linked is not None else None


def _above(path: str) -> Iterator[str]:
    """The folders above a path."""
    while "/" in path:
        path = path.rpartition("/")[0]
        yield path


def last_commit_day(folder: Path, surroundings: Surroundings) -> str:
    """The day of ``last_commit_time`` (ISO 8601); "" without one."""
    variables = passed_on(surroundings.variables)
    last = last_commit_time(folder, variables | {"PATH": surroundings.variables.get("PATH", "")})
    return "" if last is None else last.date().isoformat()


def last_commit_time(clone: Path, variables: Mapping[str, str]) -> datetime | None:
    """When the commit that is checked out was made; None without a repository or git.

    Git is asked by a command that reads objects only, with no transport allowed: no setting of the clone makes it
    run a program, and it fetches nothing."""
    repository = repository_of(clone)
    if repository is None or not repository.has_plain_files:
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
        return plain_text(path, "utf-8", "surrogateescape", largest=_LARGEST_TEXT).strip()
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
    return result if folder.parent == result / "worktrees" else folder


def exclude_locally(clone: Path, names: Sequence[str], patterns: Sequence[str] = ()) -> bool:
    """Adds what Plainfall makes to the repository's own exclude file, which is never committed; names
    that stand there stay. ``names`` are paths from the clone ("/.venv/"), or names for any depth below it
    ("__pycache__/"); ``patterns`` are anchored at the clone and may hold what stands for anything ("/log/*.log").
    Returns whether anything was added (never without a repository, or where its exclude file leads out of it)."""
    repository = repository_of(clone)
    if repository is None or repository.is_link:
        return False
    inner = Path(os.path.realpath(clone)).relative_to(repository.top).as_posix()
    prefix = "" if inner == "." else f"/{escaped_path(inner)}"
    with _LOCK:
        try:
            rows = [*(_anchored(name, prefix) for name in names), *(f"{prefix}{one}" for one in patterns)]
            return _exclude(repository, rows)
        except (PathRefused, OSError):
            return False  # it is not Plainfall's to mend; what it makes shows up as untracked


def escaped_path(path: str) -> str:
    """A path as a pattern that matches just itself (gitignore(5)). A line end, which no pattern can hold,
    becomes the sign that stands for any one.

    >>> escaped_path("rain [old]*")
    'rain \\\\[old]\\\\*'
    >>> escaped_path("a\\n*")
    'a?\\\\*'
    """
    escaped = re.sub(r"([\\*?\[])", r"\\\1", path)
    return re.sub(r"[\r\n]", "?", re.sub(r" $", r"\\ ", escaped))


def _anchored(name: str, prefix: str) -> str:
    if name.startswith("/"):
        return f"{prefix}/{escaped_path(name[1:])}"
    return f"{prefix}/**/{name}" if prefix else name


def _exclude(repository: Repository, names: Iterable[str]) -> bool:
    confined = Confined(repository.common, "the repository's folder")
    file = confined.target("info/exclude")
    before = plain_text(file, "utf-8", "surrogateescape") if file.exists() else ""
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
            text = plain_text(file, "utf-8", "surrogateescape")
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
