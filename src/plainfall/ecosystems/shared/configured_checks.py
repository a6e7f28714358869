"""Checks that the configuration file of a tool tells of, where the part's list has the tool."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator

from msgspec import Struct

from plainfall.clone.checks import CheckFound
from plainfall.clone.walk import Tree
from plainfall.ecosystems.shared.version_files import within
from plainfall.evidence import Evidence

__all__ = ["ConfiguredTool", "configured_checks"]


class ConfiguredTool(Struct, frozen=True):
    """A check (``kind``) by a package whose configuration matches ``file`` (a regular expression for the path in
    the part), run by the command ``line``."""

    kind: str
    package: str
    file: str
    line: str


def configured_checks(
    tree: Tree,
    folder: str,
    names: frozenset[str],
    tools: Iterable[ConfiguredTool],
    rank: int,
    tool_of: Callable[[ConfiguredTool], str],
) -> Iterator[CheckFound]:
    """The checks of the tools in the part's list (``names``) whose configuration lies in the part."""
    files = [*tree.below(folder)]
    for one in tools:
        file = (
            next((path for path in files if re.fullmatch(one.file, path)), "") if one.package in names else ""
        )
        if file:
            place = Evidence(within(folder, file), 1)
            reason = f"{file}, and {one.package} in its list"
            yield CheckFound(one.kind, one.line, reason, rank, place, folder, tool_of(one))
