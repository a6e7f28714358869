"""``pylock.toml`` (the pylock.toml specification, PEP 751), read and written through its reference model."""

from __future__ import annotations

import json
import tomllib
from collections.abc import Mapping, Sequence

from msgspec.structs import replace
from packaging.pylock import (
    Package,
    PackageSdist,
    PackageWheel,
    Pylock,
    PylockUnsupportedVersionError,
    PylockValidationError,
)
from packaging.utils import parse_sdist_filename
from packaging.version import Version

from plainfall.clone.walk import Tree
from plainfall.ecosystems.python.lists.pins import Listed, Pin, Reference, Target
from plainfall.ecosystems.python.lists.toml import load_toml, table_lines
from plainfall.ecosystems.python.resolve.simple import IndexFile, listed_file
from plainfall.errors import BadInput
from plainfall.evidence import Evidence

__all__ = ["read_pylock", "write_pylock"]


def read_pylock(tree: Tree, path: str, target: Target) -> Listed:
    """The pins for a target. Raises BadInput for what breaks the specification."""
    try:
        lock = Pylock.from_dict(load_toml(tree, path))
    except PylockUnsupportedVersionError as error:
        raise BadInput(
            f"it is of a newer format: {error}",
            place=tree.line_of(path, "lock-version"),
            remedy="Update Plainfall, or write the lock as version 1.0.",
        ) from error
    except (PylockValidationError, ValueError) as error:
        raise BadInput(
            f"it breaks the pylock.toml specification: {error}",
            place=Evidence(path),
            remedy="Write the lock again with the tool that made it.",
        ) from error
    groups = target.groups or frozenset(lock.default_groups or ())
    environment = {**target.markers, "extras": target.extras, "dependency_groups": groups}
    pins = []
    for package, place in zip(lock.packages, table_lines(tree, path, "packages"), strict=False):
        # The mapping holds sets where PEP 751 wants them, which the older type of the method does not know.
        if package.marker is None or package.marker.evaluate(environment, "lock_file"):  # type: ignore[arg-type]
            pins.append(_pin(package, place))
    python = (
        (str(lock.requires_python), tree.line_of(path, "requires-python")) if lock.requires_python else None
    )
    return Listed(
        "pylock.toml",
        path,
        (path,),
        tuple(pins),
        extras=tuple(lock.extras or ()),
        groups=tuple(lock.dependency_groups or ()),
        python=python,
    )


def _pin(package: Package, place: Evidence) -> Pin:
    version = str(package.version) if package.version else ""
    if package.vcs:
        vcs = package.vcs
        address = vcs.url or vcs.path or ""
        reference = Reference("git", address, vcs.commit_id, vcs.subdirectory or "")
        return Pin(package.name, version, place, reference=reference)
    if package.directory:
        folder = package.directory
        reference = Reference("path", folder.path, "", folder.subdirectory or "", bool(folder.editable))
        return Pin(package.name, version, place, reference=reference)
    if package.archive:
        archive = package.archive
        kind = "archive" if archive.url else "path"
        reference = Reference(kind, archive.url or archive.path or "", "", archive.subdirectory or "")
        return Pin(package.name, version, place, _sets([archive.hashes]), reference=reference)
    archives: list[PackageWheel | PackageSdist] = [*(package.wheels or ())]
    archives += [package.sdist] if package.sdist else []
    files = tuple(
        listed_file(
            item.name or (item.url or item.path or "").rpartition("/")[2],
            item.url or "",
            dict(item.hashes),
            place,
        )
        for item in archives
    )
    return Pin(package.name, version, place, _sets([item.hashes for item in archives]), files)


def _sets(hashes: Sequence[Mapping[str, str]]) -> dict[str, frozenset[str]]:
    """Accepted digests by algorithm; only those algorithms that every archive states can be demanded."""
    shared = set.intersection(*(set(item) for item in hashes)) if hashes else set()
    return {name: frozenset(item[name].lower() for item in hashes) for name in sorted(shared)}


def _well_named(file: IndexFile, name: str, version: str) -> IndexFile:
    """The file under the name that the standard demands of a source package; its address tells where it is."""
    if parse_sdist_filename(file.filename) == (name, Version(version)):
        return file
    ending = ".zip" if file.filename.endswith(".zip") else ".tar.gz"
    return replace(file, filename=f"{name.replace('-', '_')}-{version}{ending}")


def write_pylock(pins: Sequence[tuple[str, str, Sequence[IndexFile]]], python: str, inputs: str) -> str:
    """A ``pylock.toml`` for (name, version, archives) rows; ``inputs`` is the fingerprint of what it was
    resolved from. The text is read back before it is returned."""
    rows = ['lock-version = "1.0"', 'created-by = "plainfall"']
    if python:
        rows.append(f'requires-python = "{python}"')
    if not pins:
        rows.append("packages = []")
    for name, version, files in sorted(pins):
        rows += ["", "[[packages]]", f'name = "{name}"', f'version = "{version}"']
        wheels = [file for file in files if file.filename.endswith(".whl")]
        sources = [file for file in files if not file.filename.endswith(".whl")]
        rows += [f"sdist = {_inline(_well_named(file, name, version))}" for file in sources[:1]]
        if wheels:
            rows += ["wheels = [", *[f"    {_inline(file)}," for file in wheels], "]"]
    rows += ["", "[tool.plainfall]", f'inputs = "{inputs}"', ""]
    text = "\n".join(rows)
    Pylock.from_dict(tomllib.loads(text))
    return text


def _inline(file: IndexFile) -> str:
    hashes = ", ".join(f'{name} = "{digest}"' for name, digest in sorted(file.hashes.items()))
    name, url = (json.dumps(text, ensure_ascii=False) for text in (file.filename, file.url))
    return f"{{ name = {name}, url = {url}, hashes = {{ {hashes} }} }}"
