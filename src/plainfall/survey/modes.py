"""Variables that must be set for the project's commands themselves: a mode, a profile, a settings module."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from itertools import chain

from plainfall.clone.readme import ReadmeStep
from plainfall.clone.walk import Tree
from plainfall.ecosystems.shape import Recognising
from plainfall.patterns import regex

__all__ = ["modes_of"]

_EXPORT = regex(r"(?:export|set)\s+([A-Z][A-Z0-9_]*)=(['\"]?)([\w./:@-]+)\2")
_INLINE = regex(r"(?:^|&&|;|\bcross-env|\benv)\s*((?:[A-Z][A-Z0-9_]*=[\w./:@-]+\s+)+)\S")
_ASSIGNED = regex(r"(?<![A-Z0-9_])([A-Z][A-Z0-9_]*)=([\w./:@-]+)")
_MODE = regex(
    r"^(\w+_)?(ENV|ENVIRONMENT|PROFILE|MODE|SETTINGS_MODULE|SETTINGS|CONFIG|CONFIG_NAME|STAGE|APP|DEBUG)$"
)
_NEVER = frozenset("PATH HOME LD_PRELOAD LD_LIBRARY_PATH PYTHONHOME NODE_OPTIONS RUBYOPT".split())


def modes_of(
    tree: Tree, folder: str, steps: Sequence[ReadmeStep], recognising: Recognising
) -> dict[str, str]:
    """Name to value: what README steps export, else what the commands of process files, manifest scripts and
    container files set before themselves. The first place counts, in that order."""
    results: dict[str, str] = {}
    scripts = (pair for text in recognising.script_texts(tree, folder) for pair in _inline(text))
    for name, value in chain(
        _of_steps(steps), _of_process_files(tree, folder), scripts, _of_containers(tree, folder)
    ):
        if name not in _NEVER:
            results.setdefault(name, value)
    return results


def _of_steps(steps: Sequence[ReadmeStep]) -> Iterator[tuple[str, str]]:
    for step in steps:
        match = _EXPORT.fullmatch(step.command)
        if match:
            yield match.group(1), match.group(3)
        elif step.stage != "test":
            yield from _inline(step.command)


def _inline(command: str) -> Iterator[tuple[str, str]]:
    """The modes among the assignments that stand before a command: other variables are for that one only."""
    for run in _INLINE.finditer(command):
        for name, value in _ASSIGNED.findall(run.group(1)):
            if _MODE.match(name) and not value.startswith("prod"):
                yield name, value


def _of_process_files(tree: Tree, folder: str) -> Iterator[tuple[str, str]]:
    for name in ("Procfile.dev", "Procfile"):
        path = f"{folder}/{name}" if folder else name
        if path in tree:
            for line in tree.text(path).splitlines():
                yield from _inline(line.partition(":")[2].strip())


def _of_containers(tree: Tree, folder: str) -> Iterator[tuple[str, str]]:
    """``ENV`` lines of the container file, settings modules only: its other modes are for production."""
    path = f"{folder}/Dockerfile" if folder else "Dockerfile"
    if path not in tree:
        return
    for line in tree.text(path).splitlines():
        match = re.match(r"\s*ENV\s+(\w*SETTINGS_MODULE|[A-Z]+_APP)[= ](['\"]?)([\w.:/-]+)\2", line)
        if match and "prod" not in match.group(3):
            yield match.group(1), match.group(3)
