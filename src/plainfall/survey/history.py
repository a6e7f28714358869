"""Who made a clone, and whether it is alive: read through git's plumbing, which runs no program of the clone's
choosing."""

from __future__ import annotations

import subprocess
from collections import Counter
from collections.abc import Mapping, Sequence
from datetime import UTC, date, datetime
from pathlib import Path
from typing import Any

from msgspec import Struct

from plainfall.plain_files import plain_text
from plainfall.processes import run
from plainfall.repository import Repository, repository_of

__all__ = ["Branch", "Brief", "History", "brief_of", "history_of"]

_SECONDS = 20.0
_LATELY = 300  # commits whose files are counted
_MONTHS = 24
_MUCH_NEWER = 90  # days by which another branch's last commit is said to be much newer
_SAFE = ("-c", "core.fsmonitor=false", "-c", "core.hooksPath=/dev/null", "-c", "log.showSignature=false")


class Branch(Struct, frozen=True):
    """A branch, here or as it was last fetched: its short name and the day of its last commit."""

    name: str
    last: date


class History(Struct, frozen=True):
    """What a repository tells: the branch that is checked out ("" for a commit), the number of commits, the days of
    the first and the last, people and months (``2026-11``) with their commits, files that changed most in the last
    commits, tags and branches with the newest first, how many commits the checkout is behind what was last fetched
    (None if it follows nothing) and ahead of it, and how many tracked files differ from what was committed."""

    branch: str
    commits: int
    first: date
    last: date
    people: tuple[tuple[str, int], ...]
    months: tuple[tuple[str, int], ...]
    files: tuple[tuple[str, int], ...]
    tags: tuple[Branch, ...]
    branches: tuple[Branch, ...]
    behind: int | None
    ahead: int
    changed: int

    @property
    def newer(self) -> Branch | None:
        """Another branch whose last commit is much newer."""
        return _newer(self.branches, self.branch, self.last)

    def as_json(self) -> dict[str, Any]:
        """The form that ``survey --history --json`` shows."""
        return {
            "branch": self.branch,
            "commits": self.commits,
            "first": self.first.isoformat(),
            "last": self.last.isoformat(),
            "people": [{"name": name, "commits": count} for name, count in self.people],
            "months": [{"month": name, "commits": count} for name, count in self.months],
            "files": [{"path": path, "changes": count} for path, count in self.files],
            "tags": [{"name": one.name, "day": one.last.isoformat()} for one in self.tags],
            "branches": [{"name": one.name, "last": one.last.isoformat()} for one in self.branches],
            "behind": self.behind,
            "ahead": self.ahead,
            "changed": self.changed,
        }


class Brief(Struct, frozen=True):
    """What can be told of a history without reading all of it: the number of commits, the day of the last, the
    branch that is checked out, another one that is much newer, and all branches, the newest first."""

    commits: int
    last: date
    branch: str
    newer: Branch | None
    branches: tuple[Branch, ...] = ()


def _newer(branches: Sequence[Branch], branch: str, last: date) -> Branch | None:
    others = [one for one in branches if one.name.rpartition("/")[2] != branch.rpartition("/")[2]]
    best = max(others, key=lambda one: one.last, default=None)
    return best if best is not None and (best.last - last).days > _MUCH_NEWER else None


def brief_of(clone: Path, variables: Mapping[str, str]) -> Brief | None:
    """A few facts of a clone's history; None where ``history_of`` gives None."""
    repository = repository_of(clone)
    if repository is None:
        return None
    asking = _Asking(repository, variables)
    counted = next(iter(asking.lines("rev-list", "--count", "HEAD", "--")), "")
    when = next(iter(asking.lines("rev-list", "--max-count=1", "--timestamp", "HEAD", "--")), "").partition(
        " "
    )[0]
    if not counted.isdigit() or not when.isdigit() or len(when) > 11:
        return None
    last = datetime.fromtimestamp(int(when), UTC).date()
    branch = _branch(repository)
    branches = asking.references("refs/heads", "refs/remotes")
    return Brief(int(counted), last, branch, _newer(branches, branch, last), tuple(branches))


def _branch(repository: Repository) -> str:
    head = _text(repository.folder / "HEAD")
    return head.removeprefix("ref: refs/heads/") if head.startswith("ref: refs/heads/") else ""


def history_of(clone: Path, variables: Mapping[str, str]) -> History | None:
    """The history of a clone; None without a repository, without git, or where nothing was committed yet."""
    repository = repository_of(clone)
    if repository is None:
        return None
    asking = _Asking(repository, variables)
    rows = [row.partition(" ") for row in asking.lines("rev-list", "--format=%at %aN", "HEAD", "--")]
    made = [(int(when), name) for when, _, name in rows if when.isdigit() and len(when) < 12]
    if not made:
        return None
    days = [datetime.fromtimestamp(when, UTC).date() for when, _ in made]
    branch = _branch(repository)
    behind, ahead = asking.distance(branch)
    states = repository.states()
    changed = sum(states.get(path) != told for path, told in repository.tracked.items())
    return History(
        branch,
        len(made),
        min(days),
        max(days),
        tuple(Counter(name for _, name in made).most_common()),
        _months(days),
        tuple(Counter(asking.changed_lately()).most_common(10)),
        tuple(asking.references("refs/tags")),
        tuple(asking.references("refs/heads", "refs/remotes")),
        behind,
        ahead,
        changed,
    )


def _months(days: Sequence[date]) -> tuple[tuple[str, int], ...]:
    """The last months up to the last commit, each with its commits."""
    counts = Counter(f"{day:%Y-%m}" for day in days)
    year, month = max(days).year, max(days).month
    found = []
    for _ in range(_MONTHS):
        name = f"{year:04d}-{month:02d}"
        found.append((name, counts.get(name, 0)))
        year, month = (year, month - 1) if month > 1 else (year - 1, 12)
        if name == f"{min(days):%Y-%m}":
            break
    return tuple(reversed(found))


def _text(path: Path) -> str:
    try:
        return plain_text(path, "utf-8", "replace").strip()[:400]
    except OSError:
        return ""


class _Asking:
    """Plumbing commands of git on one repository, with no transport, hook or monitor allowed."""

    def __init__(self, repository: Repository, variables: Mapping[str, str]) -> None:
        self._start = ["git", *_SAFE, f"--git-dir={repository.folder}"]
        guarded = {
            "GIT_ALLOW_PROTOCOL": "",
            "GIT_NO_LAZY_FETCH": "1",
            "GIT_OPTIONAL_LOCKS": "0",
            "LC_ALL": "C",
        }
        self._variables = {**variables, **guarded}
        self._given_up = not repository.has_plain_files

    def lines(self, *words: str, data: bytes | None = None) -> list[str]:
        """What a command says; nothing where it fails, nor after one that did not end: it may wait for a pipe."""
        if self._given_up:
            return []
        try:
            done = run([*self._start, *words], self._variables, folder="/", seconds=_SECONDS, data=data)
        except subprocess.TimeoutExpired:
            self._given_up = True
            return []
        except OSError:
            return []
        return done.output.splitlines() if done.status == 0 else []

    def references(self, *places: str) -> list[Branch]:
        """Branches or tags, the newest first."""
        form = "--format=%(refname) %(creatordate:unix)"
        found = []
        for line in self.lines("for-each-ref", "--sort=-creatordate", form, *places):
            name, _, when = line.rpartition(" ")
            if when.isdigit() and len(when) < 12 and not name.endswith("/HEAD"):
                short = name.removeprefix("refs/").partition("/")[2]
                found.append(Branch(short, datetime.fromtimestamp(int(when), UTC).date()))
        return found

    def distance(self, branch: str) -> tuple[int | None, int]:
        """How far the checkout is behind and ahead of the branch that it follows, as that was last fetched."""
        form = "--format=%(upstream)"
        upstream = next(iter(self.lines("for-each-ref", form, f"refs/heads/{branch}")), "") if branch else ""
        if not upstream:
            return None, 0
        counted = self.lines("rev-list", "--left-right", "--count", f"HEAD...{upstream}", "--")
        ahead, _, behind = (counted[0] if counted else "").partition("\t")
        return (int(behind), int(ahead)) if ahead.isdigit() and behind.isdigit() else (None, 0)

    def changed_lately(self) -> list[str]:
        """The paths that the last commits changed, once for each."""
        commits = self.lines("rev-list", f"--max-count={_LATELY}", "--no-merges", "HEAD", "--")
        words = (
            "diff-tree",
            "--stdin",
            "-r",
            "--root",
            "--no-commit-id",
            "--name-only",
            "--no-renames",
            "--no-ext-diff",
        )
        return self.lines(*words, data="\n".join([*commits, ""]).encode())
