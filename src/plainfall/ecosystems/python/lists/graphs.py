"""Locks that hold a graph, ``uv.lock`` and ``poetry.lock``: what to install is what the roots lead to."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Any

from msgspec import Struct, field
from packaging.markers import InvalidMarker, Marker
from packaging.utils import canonicalize_name

from plainfall.clone.walk import Tree
from plainfall.ecosystems.python.lists.pins import Listed, Pin, Reference, Target
from plainfall.ecosystems.python.lists.toml import check_format, load_toml, table_lines
from plainfall.ecosystems.python.resolve.simple import IndexFile, listed_file
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["read_poetry_lock", "read_uv_lock", "spelled_out"]


class _Edge(Struct, frozen=True):
    """One dependency: name, extras asked of it, marker, and the version where a lock holds several."""

    name: str
    extras: frozenset[str] = frozenset()
    marker: Marker | None = None
    version: str = ""


class _Node(Struct):
    """One locked package with its edges; ``optional`` holds those of each extra."""

    pin: Pin
    edges: list[_Edge]
    optional: dict[str, list[_Edge]] = field(default_factory=dict)
    marker: Marker | None = None


def _reached(nodes: Mapping[str, list[_Node]], roots: list[_Edge], target: Target, path: str) -> list[_Node]:
    """The nodes that the roots lead to, each once, in the lock's order of discovery."""
    results: dict[int, _Node] = {}
    seen: set[tuple[int, str]] = set()
    waiting = [(edge, "") for edge in roots]
    while waiting:
        edge, extra = waiting.pop()
        if not target.holds(edge.marker, extra):
            continue
        versions = [
            node
            for node in nodes.get(edge.name, [])
            if (not edge.version or node.pin.version == edge.version) and target.holds(node.marker)
        ]
        if not versions:
            raise BadInput(
                f"it lacks {edge.name}, which another package of it depends on",
                place=Evidence(path),
                remedy="The lock is damaged (a merge, most often). Write it again with the tool that made it.",
            )
        for node in versions[:1]:
            results.setdefault(id(node), node)
            for wanted in ("", *edge.extras):
                if (id(node), wanted) not in seen:
                    seen.add((id(node), wanted))
                    waiting += [
                        (e, wanted) for e in (node.optional.get(wanted, []) if wanted else node.edges)
                    ]
    return list(results.values())


def _marker(text: str | None, place: Evidence) -> Marker | None:
    if not text:
        return None
    try:
        return Marker(text)
    except InvalidMarker as error:
        raise BadInput(
            f"the marker {text!r} cannot be read: {str(error).splitlines()[0]}",
            place=place,
            remedy="Write the lock again with the tool that made it.",
        ) from error


def _sha(hashes: list[str]) -> dict[str, frozenset[str]]:
    digests = frozenset(h.removeprefix("sha256:") for h in hashes if h.startswith("sha256:"))
    return {"sha256": digests} if digests else {}


def _file(url: str, hash_: str, size: object, place: Evidence) -> IndexFile:
    name = url.rpartition("/")[2].partition("#")[0]
    algorithm, _, digest = hash_.partition(":")
    hashes = {algorithm: digest} if digest else {}
    return listed_file(name, url, hashes, place, size if isinstance(size, int) else None)


def read_uv_lock(tree: Tree, path: str, target: Target) -> Listed:
    """The pins of a ``uv.lock`` for a target: the roots are the packages of the clone itself, with the
    groups that are wanted (``dev`` if none are named) and extras."""
    lock = load_toml(tree, path)
    check_format(lock.get("version", 0), 1, path, tree.line_of(path, "version"))
    nodes: dict[str, list[_Node]] = {}
    roots: list[_Edge] = []
    extras: set[str] = set()
    groups: set[str] = set()
    for table, place in zip(lock.get("package", []), table_lines(tree, path, "package"), strict=False):
        node = _uv_node(table, place)
        nodes.setdefault(node.pin.name, []).append(node)
        source = table.get("source", {})
        if source.get("virtual", source.get("editable", source.get("directory"))) in (".", ""):
            optional = table.get("optional-dependencies", {})
            developing = table.get("dev-dependencies", {})
            extras |= set(optional)
            groups |= set(developing)
            if "virtual" in source:
                roots += node.edges
            else:
                roots.append(_Edge(node.pin.name))
            for extra in target.extras & set(optional):
                roots += [_uv_edge(row, place) for row in optional[extra]]
            for group in (target.groups or {"dev"}) & set(developing):
                roots += [_uv_edge(row, place) for row in developing[group]]
    pins = [node.pin for node in _reached(nodes, roots, target, path)]
    python = lock.get("requires-python")
    return Listed(
        "uv.lock",
        path,
        (path,),
        tuple(sorted(pins, key=lambda pin: pin.name)),
        extras=tuple(sorted(extras)),
        groups=tuple(sorted(groups)),
        python=(python, tree.line_of(path, "requires-python")) if python else None,
    )


def _uv_node(table: Mapping[str, Any], place: Evidence) -> _Node:
    source = table.get("source", {})
    archives = [*table.get("wheels", []), *([table["sdist"]] if "sdist" in table else [])]
    hashes = [str(item["hash"]) for item in archives if "hash" in item]
    files = tuple(
        _file(str(item.get("url", item.get("path", ""))), str(item.get("hash", "")), item.get("size"), place)
        for item in archives
    )
    pin = Pin(
        canonicalize_name(table["name"]),
        str(table.get("version", "")),
        place,
        _sha(hashes),
        files,
        _uv_reference(source),
    )
    optional = {
        name: [_uv_edge(row, place) for row in rows]
        for name, rows in table.get("optional-dependencies", {}).items()
    }
    return _Node(pin, [_uv_edge(row, place) for row in table.get("dependencies", [])], optional)


def _uv_reference(source: Mapping[str, Any]) -> Reference | None:
    if "git" in source:
        address, _, commit = str(source["git"]).partition("#")
        folder = re.search(r"[?&]subdirectory=([^&#]+)", address)
        return Reference("git", address.partition("?")[0], commit, folder.group(1) if folder else "")
    if "url" in source:
        return Reference("archive", str(source["url"]))
    for key in ("editable", "directory", "path"):
        if key in source:
            return Reference("path", str(source[key]), editable=key == "editable")
    return None


def _uv_edge(row: Mapping[str, Any], place: Evidence) -> _Edge:
    return _Edge(
        canonicalize_name(row["name"]),
        frozenset(row.get("extra", [])),
        _marker(row.get("marker"), place),
        str(row.get("version", "")),
    )


def read_poetry_lock(tree: Tree, path: str, target: Target) -> Listed:
    """The pins of a ``poetry.lock`` for a target. Newer ones state each package's groups and marker; in
    older ones the manifest's dependencies are the roots of a walk."""
    lock = load_toml(tree, path)
    metadata = lock.get("metadata", {})
    check_format(metadata.get("lock-version", "1.0"), 2, path, tree.line_of(path, "lock-version"))
    nodes: dict[str, list[_Node]] = {}
    grouped: list[tuple[_Node, set[str], bool]] = []
    for table, place in zip(lock.get("package", []), table_lines(tree, path, "package"), strict=False):
        node = _poetry_node(table, place, metadata)
        nodes.setdefault(node.pin.name, []).append(node)
        if "groups" in table:
            grouped.append((node, set(table["groups"]), bool(table.get("optional"))))
    manifest_path = path.replace("poetry.lock", "pyproject.toml")
    manifest = load_toml(tree, manifest_path) if (tree.root / manifest_path).is_file() else {}
    offered = set(manifest.get("tool", {}).get("poetry", {}).get("group", {}))
    groups = {"main", "dev", *target.groups}
    if grouped:
        chosen = [
            node
            for node, of, optional in grouped
            if of & groups and target.holds(node.marker) and (not optional or target.extras)
        ]
    else:
        roots = list(_poetry_roots(manifest, groups, Evidence(manifest_path)))
        if not manifest:
            roots = [_Edge(name) for name in nodes]
        chosen = _reached(nodes, roots, target, path)
    python = metadata.get("python-versions")
    return Listed(
        "poetry.lock",
        path,
        (path,),
        tuple(sorted((node.pin for node in chosen), key=lambda pin: pin.name)),
        extras=tuple(lock.get("extras", {})),
        groups=tuple(sorted(offered)),
        python=(spelled_out(str(python)), tree.line_of(path, "python-versions")) if python else None,
    )


def _poetry_node(table: Mapping[str, Any], place: Evidence, metadata: Mapping[str, Any]) -> _Node:
    name = canonicalize_name(table["name"])
    rows = table.get("files") or metadata.get("files", {}).get(table["name"], [])
    files = tuple(_file(str(row["file"]), str(row["hash"]), None, place) for row in rows)
    source = table.get("source", {})
    reference = None
    if source.get("type") == "git":
        revision = str(source.get("resolved_reference", source.get("reference", "")))
        reference = Reference("git", str(source["url"]), revision, str(source.get("subdirectory", "")))
    elif source.get("type") in ("directory", "file"):
        reference = Reference("path", str(source["url"]), editable=bool(table.get("develop")))
    elif source.get("type") == "url":
        reference = Reference("archive", str(source["url"]))
    edges = [
        edge
        for dependency, rule in table.get("dependencies", {}).items()
        for edge in _poetry_edges(dependency, rule, place)
    ]
    optional: dict[str, list[_Edge]] = {}
    for extra, requirements in table.get("extras", {}).items():
        names = {canonicalize_name(re.split(r"[\s\[(;<>=!~]", text, maxsplit=1)[0]) for text in requirements}
        optional[extra] = [edge for edge in edges if edge.name in names]
    pin = Pin(name, str(table["version"]), place, _sha([str(r["hash"]) for r in rows]), files, reference)
    required = [edge for edge in edges if "extra ==" not in str(edge.marker)]
    return _Node(pin, required, optional, _poetry_marker(table.get("markers"), place))


def _poetry_marker(value: object, place: Evidence) -> Marker | None:
    """A package's marker: a text, or one for each group, of which any may hold."""
    if isinstance(value, dict):
        texts = [str(text) for text in value.values() if text]
        return (
            _marker(" or ".join(f"({text})" for text in texts), place) if len(texts) == len(value) else None
        )
    return _marker(str(value), place) if value else None


def _poetry_edges(name: str, rule: Any, place: Evidence) -> Iterator[_Edge]:
    for one in rule if isinstance(rule, list) else [rule]:
        table = one if isinstance(one, dict) else {}
        yield _Edge(
            canonicalize_name(name), frozenset(table.get("extras", [])), _marker(table.get("markers"), place)
        )


def _poetry_roots(manifest: Mapping[str, Any], groups: set[str], place: Evidence) -> Iterator[_Edge]:
    table = manifest.get("tool", {}).get("poetry", {})
    lists = [table.get("dependencies", {}), table.get("dev-dependencies", {})]
    lists += [
        group.get("dependencies", {}) for name, group in table.get("group", {}).items() if name in groups
    ]
    for rows in lists:
        for name, rule in rows.items():
            optional = isinstance(rule, dict) and rule.get("optional")
            if name.lower() != "python" and not optional:
                yield from _poetry_edges(name, rule, place)
    from packaging.requirements import Requirement

    for text in manifest.get("project", {}).get("dependencies", []):
        requirement = Requirement(text)
        yield _Edge(canonicalize_name(requirement.name), frozenset(requirement.extras), requirement.marker)


# A caret or tilde with a version, whose pre-release belongs to the lower end alone.
_CARET = regex(r"([\^~])\s*(\d+(?:\.\d+)*)((?:[-.]?(?:alpha|beta|preview|pre|post|dev|rc|a|b|c)[-.]?\d*)*)")


def spelled_out(text: str) -> str:
    """A version rule with carets and tildes in the standard range grammar: ``^3.10`` is ``>=3.10,<4``."""

    def spelled(match: re.Match[str]) -> str:
        numbers = [int(number) for number in match.group(2).split(".")]
        place = 0
        if match.group(1) == "^":
            # The first number that is not zero may not change.
            place = next((at for at, number in enumerate(numbers) if number), len(numbers) - 1)
        elif len(numbers) > 1:
            place = 1
        upper = [*numbers[:place], numbers[place] + 1]
        return f">={match.group(2)}{match.group(3)},<{'.'.join(map(str, upper))}"

    first = text.split("||")[0].strip()
    rule = _CARET.sub(spelled, first).replace(" ", "")
    if rule in ("", "*"):
        return ""
    return rule if rule[0] in "<>=!~" else f"=={rule}"
