"""Locks that list packages flatly: ``pdm.lock`` and ``Pipfile.lock``."""

from __future__ import annotations

import re
from typing import Any

from packaging.markers import InvalidMarker, Marker
from packaging.utils import canonicalize_name

from plainfall.clone.walk import Tree
from plainfall.ecosystems.python.lists.pins import Listed, Pin, Reference, Target
from plainfall.ecosystems.python.lists.toml import check_format, load_toml, table_lines
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.reading import json_object

__all__ = ["read_pdm_lock", "read_pipfile_lock"]

_REMEDY = "Write the lock again with the tool that made it."


def read_pdm_lock(tree: Tree, path: str, target: Target) -> Listed:
    """The pins of a ``pdm.lock`` for a target: its default and dev groups, and the wanted ones."""
    lock = load_toml(tree, path)
    metadata = lock.get("metadata", {})
    check_format(metadata.get("lock_version", "4"), 4, path, tree.line_of(path, "lock_version"))
    groups = {"default", *(target.groups or {"dev"}), *target.extras}
    chosen: dict[str, Pin] = {}
    for table, place in zip(lock.get("package", []), table_lines(tree, path, "package"), strict=False):
        if not set(table.get("groups", ["default"])) & groups:
            continue
        if not target.holds(_marker(table.get("marker"), place)):
            continue
        digests = frozenset(str(row["hash"]).removeprefix("sha256:") for row in table.get("files", []))
        name = canonicalize_name(table["name"])
        reference = None
        if "git" in table:
            reference = Reference("git", str(table["git"]), str(table.get("revision", "")))
        elif "path" in table:
            reference = Reference("path", str(table["path"]), editable=bool(table.get("editable")))
        hashes = {"sha256": digests} if digests else {}
        # A package with extras stands a second time, with the same archives.
        chosen.setdefault(name, Pin(name, str(table["version"]), place, hashes, reference=reference))
    offered = [str(group) for group in metadata.get("groups", []) if group != "default"]
    return Listed("pdm.lock", path, (path,), tuple(chosen.values()), groups=tuple(offered))


def read_pipfile_lock(tree: Tree, path: str, target: Target) -> Listed:
    """The pins of a ``Pipfile.lock``: its default packages, and those for development."""
    text = tree.text(path)
    lock = json_object(text, path)
    lines = _lines(text, path)
    meta = lock.get("_meta", {})
    check_format(meta.get("pipfile-spec", 6), 6, path, tree.line_of(path, "pipfile-spec"))
    pins = []
    for section in ("default", "develop"):
        for name, row in lock.get(section, {}).items():
            place = lines.get(name, Evidence(path))
            if target.holds(_marker(row.get("markers"), place)):
                pins.append(_pipfile_pin(canonicalize_name(name), row, place))
    unique = {pin.name: pin for pin in reversed(pins)}
    asked = meta.get("requires", {})
    version = asked.get("python_full_version") or asked.get("python_version")
    python = (f"=={version}.*", tree.line_of(path, "python_version")) if version else None
    return Listed("Pipfile.lock", path, (path,), tuple(unique.values()), groups=("develop",), python=python)


def _pipfile_pin(name: str, row: dict[str, Any], place: Evidence) -> Pin:
    if "git" in row:
        return Pin(name, "", place, reference=Reference("git", str(row["git"]), str(row.get("ref", ""))))
    if "path" in row or "file" in row:
        address = str(row.get("path", row.get("file")))
        kind = "archive" if "://" in address else "path"
        reference = Reference(kind, address, editable=bool(row.get("editable")))
        return Pin(
            name, "", place, _pipfile_hashes(row) if not reference.editable else {}, reference=reference
        )
    version = re.sub(r"^={2,3}", "", str(row.get("version", "")))
    if not version or version == "*":
        raise BadInput(f"{name} has no exact version", place=place, remedy=_REMEDY)
    return Pin(name, version, place, _pipfile_hashes(row))


def _pipfile_hashes(row: dict[str, Any]) -> dict[str, frozenset[str]]:
    rows = [str(one) for one in row.get("hashes", [])]
    digests = frozenset(one.removeprefix("sha256:") for one in rows if one.startswith("sha256:"))
    return {"sha256": digests} if digests else {}


def _lines(text: str, path: str) -> dict[str, Evidence]:
    """The first line that begins with each quoted name."""
    results: dict[str, Evidence] = {}
    for number, line in enumerate(text.splitlines(), 1):
        stripped = line.strip()
        if stripped.startswith('"'):
            results.setdefault(stripped[1:].partition('":')[0], Evidence(path, number, stripped))
    return results


def _marker(text: str | None, place: Evidence) -> Marker | None:
    try:
        return Marker(text) if text else None
    except InvalidMarker as error:
        raise BadInput(f"the marker {text!r} cannot be read", place=place, remedy=_REMEDY) from error
