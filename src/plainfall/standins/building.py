"""Building our made-up packages: a source tree becomes a valid wheel and a valid source package.

Wheels follow the binary distribution format 1.0, source packages PEP 625 and PEP 643; the same tree gives
the same bytes each time.
"""

from __future__ import annotations

import base64
import csv
import gzip
import hashlib
import io
import tarfile
import tomllib
import zipfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from msgspec import Struct

__all__ = ["SOURCES", "Built", "build_all", "build_source_package", "build_wheel", "wheel_bytes"]

SOURCES = Path(__file__).parent / "sources"
_WHEN = (2026, 1, 1, 0, 0, 0)


class Built(Struct, frozen=True):
    """A built archive: file name, bytes, and the package's metadata text."""

    name: str
    version: str
    filename: str
    content: bytes
    metadata: str
    requires_python: str

    @property
    def sha256(self) -> str:
        """The digest of the bytes, in hex."""
        return hashlib.sha256(self.content).hexdigest()


def build_all(sources: Path = SOURCES) -> list[Built]:
    """The wheel and the source package of every tree in the folder."""
    trees = sorted(path.parent for path in sources.glob("*/pyproject.toml"))
    return [built for tree in trees for built in (build_wheel(tree), build_source_package(tree))]


def build_wheel(tree: Path) -> Built:
    """A pure wheel: everything in the tree but its ``pyproject.toml`` is laid into site-packages; what is
    in its ``data`` folder goes below the environment's own folder."""
    project = _project(tree)
    members: dict[str, bytes] = {}
    for path in _files(tree):
        inner = path.relative_to(tree).as_posix()
        if inner == "pyproject.toml":
            continue
        if inner.startswith("data/"):
            inner = f"{_snake(project['name'])}-{project['version']}.data/{inner}"
        members[inner] = path.read_bytes()
    return _as_wheel(project, members)


def wheel_bytes(
    name: str,
    version: str,
    members: Mapping[str, bytes],
    *,
    requires: tuple[str, ...] = (),
    requires_python: str = ">=3.8",
    scripts: Mapping[str, str] | None = None,
    tag: str = "py3-none-any",
) -> Built:
    """A wheel made from given members, for tests and trials."""
    project: dict[str, Any] = {
        "name": name,
        "version": version,
        "description": "made up",
        "requires-python": requires_python,
        "dependencies": list(requires),
        "scripts": dict(scripts or {}),
    }
    return _as_wheel(project, dict(members), tag)


def _as_wheel(project: dict[str, Any], members: dict[str, bytes], tag: str = "py3-none-any") -> Built:
    stem = f"{_snake(project['name'])}-{project['version']}"
    info = f"{stem}.dist-info"
    metadata = _metadata(project)
    pure = "true" if tag.endswith("-none-any") else "false"
    members[f"{info}/METADATA"] = metadata.encode()
    members[f"{info}/WHEEL"] = (
        f"Wheel-Version: 1.0\nGenerator: plainfall-standin\nRoot-Is-Purelib: {pure}\nTag: {tag}\n".encode()
    )
    if project.get("scripts"):
        commands = "".join(f"{name} = {target}\n" for name, target in project["scripts"].items())
        members[f"{info}/entry_points.txt"] = f"[console_scripts]\n{commands}".encode()
    rows = [[path, f"sha256={_digest(data)}", len(data)] for path, data in members.items()]
    record = io.StringIO()
    csv.writer(record, lineterminator="\n").writerows([*rows, [f"{info}/RECORD", "", ""]])
    members[f"{info}/RECORD"] = record.getvalue().encode()
    content = io.BytesIO()
    with zipfile.ZipFile(content, "w", zipfile.ZIP_DEFLATED) as wheel:
        for path, data in members.items():
            entry = zipfile.ZipInfo(path, _WHEN)
            entry.external_attr = (0o100755 if ".data/scripts/" in path else 0o100644) << 16
            wheel.writestr(entry, data, zipfile.ZIP_DEFLATED)
    return Built(
        project["name"],
        project["version"],
        f"{stem}-{tag}.whl",
        content.getvalue(),
        metadata,
        project["requires-python"],
    )


def build_source_package(tree: Path) -> Built:
    """A ``.tar.gz`` with the tree's files and a PKG-INFO."""
    project = _project(tree)
    stem = f"{_snake(project['name'])}-{project['version']}"
    metadata = _metadata(project)
    content = io.BytesIO()
    with (
        gzip.GzipFile(fileobj=content, mode="wb", mtime=0) as packed,
        tarfile.open(fileobj=packed, mode="w", format=tarfile.PAX_FORMAT) as archive,
    ):
        members = {f"{stem}/PKG-INFO": metadata.encode()}
        members |= {f"{stem}/{p.relative_to(tree).as_posix()}": p.read_bytes() for p in _files(tree)}
        for path, data in members.items():
            entry = tarfile.TarInfo(path)
            entry.size = len(data)
            archive.addfile(entry, io.BytesIO(data))
    return Built(
        project["name"],
        project["version"],
        f"{stem}.tar.gz",
        content.getvalue(),
        metadata,
        project["requires-python"],
    )


def _project(tree: Path) -> dict[str, Any]:
    table: dict[str, Any] = tomllib.loads((tree / "pyproject.toml").read_text("utf-8"))["project"]
    return table


def _files(tree: Path) -> list[Path]:
    return sorted(p for p in tree.rglob("*") if p.is_file() and "__pycache__" not in p.parts)


def _metadata(project: Mapping[str, Any]) -> str:
    rows = [
        "Metadata-Version: 2.2",
        f"Name: {project['name']}",
        f"Version: {project['version']}",
        f"Summary: {project['description']}",
        f"Requires-Python: {project['requires-python']}",
        *(f"Requires-Dist: {requirement}" for requirement in project["dependencies"]),
    ]
    return "\n".join(rows) + "\n"


def _snake(name: str) -> str:
    return name.replace("-", "_")


def _digest(data: bytes) -> str:
    return base64.urlsafe_b64encode(hashlib.sha256(data).digest()).rstrip(b"=").decode()
