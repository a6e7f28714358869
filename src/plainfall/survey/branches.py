"""Whether another branch is meant than the one that is checked out: what the README says, a list of chapters."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

from plainfall.clone.walk import Tree, walk
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex
from plainfall.survey.history import Brief, brief_of

__all__ = ["branch_remarks"]

_README = regex(r"^readme(\.(md|markdown|rst|txt|adoc))?$", re.IGNORECASE)
_NAME = r"(?P<name>[\w][\w./-]{0,120})"
# Where a document speaks of a branch.
_SPEAKS = tuple(
    regex(pattern)
    for pattern in (
        rf"git (?:checkout|switch)\s+(?:-[bBt]\s+|--track\s+)?(?:(?:origin|upstream)/)?{_NAME}",
        rf"git clone\b[^\n]*?\s(?:-b|--branch)[ =]{_NAME}",
        rf"/tree/{_NAME}",
        rf"\bbranch\s+[`*\"']+{_NAME}[`*\"']",
        rf"[`*\"']{_NAME}[`*\"']+\s+branch\b",
    )
)
_LIST = 3  # branches that make a list of them
_SHOWN = 5


def branch_remarks(
    clone: Path, variables: Mapping[str, str], brief: Brief | None = None
) -> list[tuple[str, Evidence]]:
    """What tells that another branch may be meant, each with its place; empty where nothing does, or there is one
    branch only."""
    brief = brief or brief_of(clone, variables)
    if brief is None or len(brief.branches) < 2:
        return []
    here = brief.branch or "a commit"
    remarks = []
    known = {_short(one.name) for one in brief.branches} - {_short(brief.branch)}
    named: dict[str, Evidence] = {}
    for name, place in _named(walk(clone)):
        if name in known:
            named.setdefault(name, place)
    if len(named) >= _LIST:
        first = next(iter(named.values()))
        more = f" and {len(named) - _SHOWN} more" if len(named) > _SHOWN else ""
        names = ", ".join(list(named)[:_SHOWN]) + more
        told = f"the README lists {len(named)} branches ({names}); checked out is {here}"
        text = f"{told}: take one with git switch NAME"
        remarks.append((text, first))
    else:
        for name, place in named.items():
            text = (
                f"the README points to the branch {name}; checked out is {here}: git switch {name} takes it"
            )
            remarks.append((text, place))
    if brief.newer is not None:
        text = (
            f"the branch {brief.newer.name} is newer (last commit {brief.newer.last}); checked out is {here}"
        )
        remarks.append((text, Evidence(".git")))
    return remarks


def _short(name: str) -> str:
    """A branch's name without the other repository's."""
    return re.sub(r"^(origin|upstream)/", "", name)


def _named(tree: Tree) -> Iterator[tuple[str, Evidence]]:
    for path in _readmes(tree.folders.get("", ())):
        try:
            rows = tree.text(path).splitlines()
        except BadInput:
            continue  # not text that anybody reads
        for number, row in enumerate(rows, 1):
            for pattern in _SPEAKS:
                for match in pattern.finditer(row[:2000]):
                    yield match["name"].rstrip(".,/"), Evidence(path, number, row.strip()[:200])


def _readmes(names: Sequence[str]) -> list[str]:
    return [name for name in sorted(names) if _README.match(name)]
