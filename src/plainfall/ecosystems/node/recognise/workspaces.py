"""The workspaces of a Node part: folders below it whose packages are linked into its ``node_modules``."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Iterator, Mapping
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Any

from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.lists.documents import plain_manifest
from plainfall.ecosystems.node.runtime.asks import manifest
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.plain_files import plain_bytes, plain_text
from plainfall.reading import foreign_json, yaml_value

__all__ = ["built_for_others", "linked_folders", "needed_first", "owner_of", "workspace_file", "workspaces"]

_FILE = "pnpm-workspace.yaml"


def owner_of(tree: Tree, folder: str) -> tuple[str, bool] | None:
    """The part above a folder whose workspaces speak of it, and whether they take it; None if none does. A
    folder that the part above links to is installed with it, too."""
    above = folder
    while above:
        above = above.rpartition("/")[0]
        if (f"{above}/package.json" if above else "package.json") not in tree:
            continue
        document = manifest(tree, above)
        taken = _chosen(_patterns(tree.root / above, document), folder, above)
        if folder[len(above) :].lstrip("/") in linked_folders(document):
            taken = True
        if taken is not None:
            return above, taken
    return None


def workspaces(part: Path, document: Mapping[str, Any]) -> dict[str, dict[str, Any]]:
    """The manifests of the part's workspaces, by folder. Raises BadInput for one that cannot be read."""
    patterns = _patterns(part, document)
    results: dict[str, dict[str, Any]] = {}
    for pattern in patterns:
        for path in () if pattern.startswith("!") else sorted(part.glob(f"{pattern}/package.json")):
            inner = path.relative_to(part)
            folder = inner.parent.as_posix()
            if "node_modules" in inner.parts or not _chosen(patterns, folder, ""):
                continue
            try:
                one = foreign_json(plain_bytes(path), str(inner))
            except OSError as error:
                raise BadInput(
                    f"it cannot be read: {error}",
                    place=Evidence(str(inner)),
                    remedy="Mend it, or restore it from version control.",
                ) from error
            results[folder] = plain_manifest(one)
    return results


def linked_folders(document: Mapping[str, Any]) -> list[str]:
    """The folders that a manifest's wishes link to, relative to it."""
    results = []
    for table in ("dependencies", "devDependencies", "optionalDependencies"):
        for wish in (document.get(table) or {}).values():
            inner = re.sub(r"^(file|link|portal):", "", str(wish))
            if inner != str(wish) and not re.search(r"\.(tgz|tar\.gz|tar)$", inner):
                results.append(posixpath.normpath(inner))
    return results


def needed_first(members: Mapping[str, Mapping[str, Any]]) -> list[str]:
    """The folders of workspaces in an order in which those come first that others need, else by name."""
    by_name = {str(one.get("name")): folder for folder, one in members.items()}
    ordered: list[str] = []
    under_way: set[str] = set()

    def visit(folder: str) -> None:
        if folder in ordered or folder in under_way:
            return  # done, or in a circle, in which there is no first
        under_way.add(folder)
        for table in ("dependencies", "devDependencies"):
            for name in sorted(members[folder].get(table) or {}):
                if name in by_name:
                    visit(by_name[name])
        ordered.append(folder)

    for folder in sorted(members):
        visit(folder)
    return ordered


def built_for_others(tree: Tree, folder: str) -> list[str]:
    """The workspaces of a part that others depend on, that have a build, and whose entry does not exist before
    it, in an order in which those come first that others need."""
    members = workspaces(tree.root / folder, manifest(tree, folder))
    needed = {
        str(name)
        for one in members.values()
        for table in ("dependencies", "devDependencies", "peerDependencies")
        for name in one.get(table) or {}
    }
    return [
        inner
        for inner in needed_first(members)
        if str(members[inner].get("name")) in needed
        and "build" in (members[inner].get("scripts") or {})
        and _lacks_entry(tree, f"{folder}/{inner}" if folder else inner, members[inner])
    ]


def _lacks_entry(tree: Tree, place: str, document: Mapping[str, Any]) -> bool:
    """Whether none of the files exists that an import of a package comes to."""
    exports = document.get("exports")
    entry = exports.get(".", exports) if isinstance(exports, Mapping) else exports
    named = [*_texts(entry), *(str(document[key]) for key in ("main", "module") if document.get(key))]
    paths = [
        posixpath.normpath(f"{place}/{name}") for name in named or ["index.js"] if not name.endswith(".d.ts")
    ]
    return not any(path in tree or f"{path}.js" in tree or f"{path}/index.js" in tree for path in paths)


def _texts(value: Any) -> Iterator[str]:
    """The paths in a conditional export."""
    if isinstance(value, str):
        yield value
    elif isinstance(value, Mapping):
        for one in value.values():
            yield from _texts(one)


def workspace_file(part: Path) -> dict[str, Any]:
    """What ``pnpm-workspace.yaml`` holds; empty if there is none. Raises BadInput."""
    path = part / _FILE
    if not path.is_file():
        return {}
    document = yaml_value(plain_text(path, "utf-8-sig", "replace"), _FILE)
    return document if isinstance(document, dict) else {}


def _patterns(part: Path, document: Mapping[str, Any]) -> list[str]:
    value = document.get("workspaces")
    rows = value.get("packages") if isinstance(value, dict) else value
    if not isinstance(rows, list):
        rows = workspace_file(part).get("packages")
    return list(_cleaned(rows)) if isinstance(rows, list) else []


def _cleaned(rows: list[Any]) -> Iterator[str]:
    for row in rows:
        mark, text = ("!", str(row)[1:]) if str(row).startswith("!") else ("", str(row))
        plain = text.removeprefix("./").strip("/")
        if plain and plain != "." and not plain.startswith(".."):
            yield mark + plain


def _chosen(patterns: list[str], folder: str, above: str) -> bool | None:
    """Whether the last pattern that speaks of a folder takes it; None if none speaks of it."""
    inner = folder[len(above) :].lstrip("/")
    taken = None
    for pattern in patterns:
        if _matches(pattern.lstrip("!"), inner):
            taken = not pattern.startswith("!")
    return taken


def _matches(pattern: str, path: str) -> bool:
    if "**" in pattern:
        return fnmatchcase(path, pattern.replace("**", "*"))
    return pattern.count("/") == path.count("/") and fnmatchcase(path, pattern)
