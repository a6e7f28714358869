"""The project's own checks as values: tests, end-to-end tests, builds, linters, type checkers; and what a command
line says of them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from plainfall.clone.walk import Tree
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex
from plainfall.reading import yaml_value

__all__ = [
    "KINDS",
    "CheckFound",
    "CheckTool",
    "CheckWords",
    "best_of_kinds",
    "kind_of_line",
    "once",
    "workflow_lines",
]

KINDS = ("tests", "end-to-end", "build", "lint", "types")


class CheckFound(Struct, frozen=True):
    """One command that checks a part: its kind, the line, why it is believed to be one, where that stands, and
    the tool that it comes to ("" where that is not known). ``text`` is what the line runs in the end; ``rank``
    orders those of a kind, larger is better; ``folder`` is where it runs."""

    kind: str
    line: str
    reason: str
    rank: int
    evidence: Evidence
    folder: str = ""
    tool: str = ""
    text: str = ""
    brought_by: str = ""

    def as_json(self) -> dict[str, Any]:
        """The form that ``check --json`` shows."""
        return {
            "kind": self.kind,
            "command": self.line,
            "tool": self.tool,
            "reason": self.reason,
            "folder": self.folder,
            "evidence": [self.evidence.as_json()],
        }


class CheckTool(Struct, frozen=True):
    """A tool of a language: the kind of check that it does, its name ("" where nothing goes by that), and a
    pattern of the command lines that call it."""

    kind: str
    tool: str
    pattern: re.Pattern[str]


class CheckWords(Struct, frozen=True):
    """What a language's command lines of checks look like: its ``tools``, the first that fits counts; what is
    changed in a line so that it ends (``watches``) and, of a linter, changes no source (``writes``): pattern
    and words."""

    tools: tuple[CheckTool, ...] = ()
    watches: tuple[tuple[re.Pattern[str], str], ...] = ()
    writes: tuple[tuple[re.Pattern[str], str], ...] = ()


# What makes environments and fetches packages by itself is no check of ours to run.
_ELSEWHERE = regex(r"^\s*(docker|podman|tox|nox|act|sudo|ssh|cd \.\.)\b|\bplaywright install\b|\bcodecov\b")
# Options that watch, and that write, of whatever tool.
_WATCHES = ((regex(r"\s(--watch(All)?(=true)?|-w)\b(?!=)"), ""),)
_WRITES = ((regex(r"\s--fix(-type \S+)?\b(?!=)"), ""),)


def kind_of_line(line: str, words: CheckWords) -> tuple[str, str]:
    """The kind and the tool that a command line comes to, by a language's words; ("", "") for one that is no
    check."""
    if not _ELSEWHERE.search(line):
        for one in words.tools:
            if one.pattern.search(line):
                return one.kind, one.tool
    return "", ""


def once(check: CheckFound, words: CheckWords) -> CheckFound:
    """The check as it runs once, watches nothing and writes to no source: a script that says otherwise is run as
    its own line, changed."""
    text = check.text or check.line
    changed = text
    writes = (*_WRITES, *words.writes) if check.kind == "lint" else ()
    for pattern, instead in (*words.watches, *_WATCHES, *writes):
        changed = pattern.sub(instead, changed)
    if changed == text:
        return check
    return replace(check, line=changed.strip(), text=changed.strip())


def best_of_kinds(checks: Iterable[CheckFound]) -> list[CheckFound]:
    """The best of each kind, in the order of kinds."""
    found: dict[str, CheckFound] = {}
    for one in sorted(checks, key=lambda one: -one.rank):
        found.setdefault(one.kind, one)
    return [found[kind] for kind in KINDS if kind in found]


_WORKFLOW = regex(r"^(\.github/workflows/[^/]+|\.gitlab-ci|\.circleci/config)\.ya?ml$")


def workflow_lines(tree: Tree) -> Iterator[tuple[str, str, Evidence]]:
    """The command lines of CI workflows, with the folder that each runs in."""
    for path in tree.files:
        if _WORKFLOW.match(path):
            try:
                document = yaml_value(tree.text(path), path)
            except BadInput:
                continue  # a workflow that cannot be read says nothing
            for line, folder in _lines(document, ""):
                first = line.strip().splitlines()[0][:60] if line.strip() else ""
                yield line, folder, tree.line_of(path, first)


def _lines(value: Any, folder: str) -> Iterator[tuple[str, str]]:
    """Every command in a workflow: ``run`` of a step, ``script`` of a job."""
    if isinstance(value, Mapping):
        inner = value.get("working-directory", folder)
        defaults = value.get("defaults")
        run = defaults.get("run") if isinstance(defaults, Mapping) else None
        if isinstance(run, Mapping):
            inner = run.get("working-directory", inner)
        inner = str(inner).strip("/").removeprefix("./")
        for key, one in value.items():
            if key in ("run", "script", "command"):
                rows = one if isinstance(one, list) else [one]
                for row in rows:
                    for line in str(row).replace("\\\n", " ").splitlines() if isinstance(row, str) else ():
                        if line.strip() and not re.match(r"\s*#", line):
                            yield line.strip(), inner
            if not isinstance(one, str):
                yield from _lines(one, inner)
    elif isinstance(value, list):
        for one in value:
            yield from _lines(one, folder)
