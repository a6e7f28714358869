"""TOML files with the lines of their tables, for evidence."""

from __future__ import annotations

import re
from typing import Any

from plainfall.clone.walk import Tree
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.reading import table_in, toml_table

_REMEDY = "Correct this line; most often a quote or a bracket is not closed, or a merge left marks."

__all__ = ["check_format", "load_table", "load_toml", "table_lines"]


def load_toml(tree: Tree, path: str) -> dict[str, Any]:
    """The file as a mapping. Raises BadInput with the line."""
    return toml_table(tree.text(path), path, _REMEDY)


def load_table(tree: Tree, path: str, *keys: str) -> dict[str, Any]:
    """The table below these keys, empty where it is missing. Raises BadInput with the line."""
    return table_in(load_toml(tree, path), keys, tree.text(path), path)


def table_lines(tree: Tree, path: str, header: str) -> list[Evidence]:
    """The places of the tables ``[[header]]``, in order, each with its name's line as text."""
    places = []
    lines = tree.text(path).splitlines()
    for number, line in enumerate(lines, 1):
        if line.strip() == f"[[{header}]]":
            name = next((row for row in lines[number : number + 4] if row.startswith("name")), line)
            places.append(Evidence(path, number, name.strip()))
    return places


def check_format(version: object, known: int, path: str, line: Evidence) -> None:
    """Raises BadInput if a lock's format has a larger major number than is known."""
    major = re.match(r"\d+", str(version))
    if major is None or int(major.group()) > known:
        raise BadInput(
            f"it is of lock format {version}; this Plainfall reads up to {known}",
            place=line if line.line else Evidence(path),
            remedy="Update Plainfall, or write the lock in the older format.",
        )
