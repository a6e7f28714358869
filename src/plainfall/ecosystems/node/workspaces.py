"""The workspaces of a Node part: folders below it whose packages are linked into its ``node_modules``."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Any

from plainfall.ecosystems.node.asks import manifest
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.survey.walk import Tree

__all__ = ["is_workspace", "workspace_file", "workspaces"]

_FILE = "pnpm-workspace.yaml"


def is_workspace(tree: Tree, folder: str) -> bool:
    """Whether a folder is a workspace of a part above it."""
    above = folder
    while above:
        above = above.rpartition("/")[0]
        place = f"{above}/package.json" if above else "package.json"
        if place in tree and _chosen(_patterns(tree.root / above, manifest(tree, above)), folder, above):
            return True
    return False


def workspaces(part: Path, document: Mapping[str, Any]) -> dict[str, dict[str, Any]]:
    """The manifests of the part's workspaces, by folder. Raises BadInput for one that cannot be read."""
    patterns = _patterns(part, document)
    found: dict[str, dict[str, Any]] = {}
    for pattern in patterns:
        for path in () if pattern.startswith("!") else sorted(part.glob(f"{pattern}/package.json")):
            inner = path.relative_to(part)
            folder = inner.parent.as_posix()
            if "node_modules" in inner.parts or not _chosen(patterns, folder, ""):
                continue
            try:
                one = json.loads(path.read_text("utf-8-sig"))
            except (OSError, ValueError) as error:
                raise BadInput(
                    f"it cannot be read: {error}",
                    place=Evidence(str(inner)),
                    remedy="Mend it, or restore it from version control.",
                ) from error
            found[folder] = one if isinstance(one, dict) else {}
    return found


def workspace_file(part: Path) -> dict[str, Any]:
    """What ``pnpm-workspace.yaml`` holds; empty if there is none. Raises BadInput."""
    path = part / _FILE
    if not path.is_file():
        return {}
    import yaml

    try:
        document = yaml.safe_load(path.read_text("utf-8-sig"))
    except (yaml.YAMLError, UnicodeDecodeError) as error:
        mark = getattr(error, "problem_mark", None)
        line = mark.line + 1 if mark else 0
        raise BadInput("it is not YAML", place=Evidence(_FILE, line), remedy="Mend that line.") from error
    return document if isinstance(document, dict) else {}


def _patterns(part: Path, document: Mapping[str, Any]) -> list[str]:
    held = document.get("workspaces")
    rows = held.get("packages") if isinstance(held, dict) else held
    if not isinstance(rows, list):
        rows = workspace_file(part).get("packages")
    return list(_cleaned(rows)) if isinstance(rows, list) else []


def _cleaned(rows: list[Any]) -> Iterator[str]:
    for row in rows:
        mark, text = ("!", str(row)[1:]) if str(row).startswith("!") else ("", str(row))
        plain = text.removeprefix("./").strip("/")
        if plain and plain != "." and not plain.startswith(".."):
            yield mark + plain


def _chosen(patterns: list[str], folder: str, above: str) -> bool:
    """Whether the last pattern that speaks of a folder takes it."""
    inner = folder[len(above) :].lstrip("/")
    taken = False
    for pattern in patterns:
        if _matches(pattern.lstrip("!"), inner):
            taken = not pattern.startswith("!")
    return taken


def _matches(pattern: str, path: str) -> bool:
    if "**" in pattern:
        return fnmatchcase(path, pattern.replace("**", "*"))
    return pattern.count("/") == path.count("/") and fnmatchcase(path, pattern)
