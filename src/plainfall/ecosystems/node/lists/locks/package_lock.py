"""``package-lock.json`` and ``npm-shrinkwrap.json``: formats 1, 2 and 3."""

from __future__ import annotations

import json
import posixpath
from collections.abc import Iterator, Mapping
from functools import partial
from typing import Any

from msgspec.structs import replace

from plainfall.ecosystems.node.lists.locks.package import LockRead, Package, checked_place
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.reading import json_value

__all__ = ["read_package_lock"]

_NEWEST = 3


def read_package_lock(text: str, path: str, manifest: Mapping[str, Any]) -> LockRead:
    """Reads a lock; ``manifest`` is the part's ``package.json``. Raises BadInput, with the line where there
    is one, for what is no lock of these formats, a place that leads out, or links in a circle."""
    document = json_value(
        text, path, "Restore it from version control; a merge may have left its marks in it."
    )
    version = document.get("lockfileVersion", 1) if isinstance(document, dict) else None
    if not isinstance(version, int) or not 1 <= version <= _NEWEST:
        raise BadInput(
            f"lock format {version!r} is not known to this version of Plainfall, which reads 1 to {_NEWEST}",
            place=Evidence(path, _line(text, '"lockfileVersion"')),
            remedy="Use a newer Plainfall, or a lock in an older format.",
        )
    if version == 1:
        results = list(_nested(document.get("dependencies", {}), "", text, path))
        return LockRead(results, tuple(_out_of_step_old(document, manifest, path, text)), knows_systems=False)
    packages = document.get("packages")
    if not isinstance(packages, dict):
        raise BadInput("it has no table of packages", place=Evidence(path, 1), remedy="Restore it.")
    results = [_package(place, entry, text, path) for place, entry in packages.items() if place]
    if document.get("resolved_by") == "plainfall":
        # Our own locks leave the commands to the packages' manifests.
        results = [replace(one, bins=None) for one in results]
    placed = [one for one in results if "node_modules/" in one.place]
    _check_links(placed, text, path)
    return LockRead(placed, tuple(_out_of_step(packages.get("", {}), manifest, text, path)))


def _line(text: str, piece: str) -> int:
    position = text.find(piece)
    return text.count("\n", 0, position) + 1 if position >= 0 else 0


def _evidence(path: str, text: str, piece: str) -> Evidence:
    return Evidence(path, _line(text, piece))


def _package(place: str, entry: Any, text: str, path: str) -> Package:
    if not isinstance(entry, dict):
        line = _line(text, json.dumps(place))
        raise BadInput(
            f"{place} must be an object", place=Evidence(path, line), remedy="Restore the lock file."
        )
    checked_place(place, partial(_evidence, path, text, json.dumps(place)))
    name = entry.get("name") or place.rpartition("node_modules/")[2]
    link = None
    if entry.get("link"):
        link = posixpath.normpath(str(entry.get("resolved", "")).removeprefix("file:"))
        if link.startswith("/") or (link.startswith("..") and not link.startswith("../")):
            line = _line(text, json.dumps(place))
            raise BadInput(
                f"{place} links to {link!r}", place=Evidence(path, line), remedy="Use a relative path."
            )
    bins = entry.get("bin")
    if isinstance(bins, str):
        bins = {str(name).rpartition("/")[2]: bins}
    return Package(
        place,
        str(name),
        str(entry.get("version", "")),
        "" if link is not None else str(entry.get("resolved") or ""),
        str(entry.get("integrity") or ""),
        link,
        bool(entry.get("optional") or entry.get("devOptional")),
        bool(entry.get("inBundle")),
        _words(entry.get("os")),
        _words(entry.get("cpu")),
        _words(entry.get("libc")),
        dict(bins) if isinstance(bins, dict) else {},
        bool(entry.get("hasInstallScript")),
        tuple(
            name
            for table in ("dependencies", "optionalDependencies", "peerDependencies")
            for name in (entry.get(table) or {})
        ),
    )


def _words(value: Any) -> tuple[str, ...]:
    if isinstance(value, str):
        return (value,)
    return tuple(str(word) for word in value) if isinstance(value, list) else ()


def _nested(table: Any, above: str, text: str, path: str) -> Iterator[Package]:
    """Format 1: each package with the ones that lie below it."""
    for name, entry in table.items() if isinstance(table, dict) else ():
        place = f"{above}node_modules/{name}"
        checked_place(place, partial(_evidence, path, text, json.dumps(name)))
        if not isinstance(entry, dict):
            line = _line(text, json.dumps(name))
            raise BadInput(
                f"{name} must be an object", place=Evidence(path, line), remedy="Restore the lock file."
            )
        version, address = str(entry.get("version", "")), str(entry.get("resolved") or "")
        link = None
        if version.startswith("file:") and not version.endswith((".tgz", ".tar.gz", ".tar")):
            link = posixpath.normpath(version.removeprefix("file:"))
        elif ":" in version and not version.startswith("npm:"):
            address, version = version, ""
        real = name
        if version.startswith("npm:"):
            real, _, version = version.removeprefix("npm:").rpartition("@")
        yield Package(
            place,
            real,
            version if link is None else "",
            address,
            str(entry.get("integrity") or ""),
            link,
            bool(entry.get("optional")),
            bool(entry.get("bundled")),
            bins=None,
            needs=tuple(entry.get("requires") or {}) if isinstance(entry.get("requires"), dict) else (),
        )
        yield from _nested(entry.get("dependencies", {}), f"{place}/", text, path)


def _check_links(packages: list[Package], text: str, path: str) -> None:
    """Raises BadInput for links that lead to each other and never to a folder."""
    links = {one.place: one.link for one in packages if one.link is not None}
    for start in links:
        seen, current = [start], links[start]
        while current in links:
            if current in seen:
                raise BadInput(
                    f"file links lead in a circle: {' → '.join([*seen, current])}",
                    place=Evidence(path, _line(text, json.dumps(start))),
                    remedy="Let one of them name a folder.",
                )
            seen.append(current)
            current = links[current]


def _asked(document: Mapping[str, Any]) -> dict[str, str]:
    results: dict[str, str] = {}
    for table in ("dependencies", "devDependencies", "optionalDependencies"):
        value = document.get(table)
        results |= {str(k): str(v) for k, v in value.items()} if isinstance(value, dict) else {}
    return results


def _out_of_step(root: Any, manifest: Mapping[str, Any], text: str, path: str) -> Iterator[str]:
    """Wishes of the manifest that the lock was not made for."""
    locked, wanted = _asked(root if isinstance(root, dict) else {}), _asked(manifest)
    folder = posixpath.dirname(path)
    own = posixpath.join(folder, "package.json")
    for name in sorted(wanted.keys() | locked.keys()):
        if wanted.get(name) != locked.get(name):
            here = wanted.get(name, "nothing")
            existing = locked.get(name, "nothing")
            line = _line(text, json.dumps(name))
            source_text = f"{own} asks for {name} {here}, the lock was made for {existing} ({path}:{line})"
            yield f"{source_text}; the lock is taken"


def _out_of_step_old(
    document: Mapping[str, Any], manifest: Mapping[str, Any], path: str, text: str
) -> Iterator[str]:
    value = document.get("dependencies", {})
    own = posixpath.join(posixpath.dirname(path), "package.json")
    for name, wanted in _asked(manifest).items():
        if name not in value and name not in (manifest.get("optionalDependencies") or {}):
            yield f"{own} asks for {name} {wanted}, which the lock lacks ({path}); the lock is taken"
