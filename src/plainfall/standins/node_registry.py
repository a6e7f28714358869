"""A registry of Node packages on loopback: package documents, archives, scopes, logins, faults on request."""

from __future__ import annotations

import base64
import gzip
import hashlib
import io
import json
import tarfile
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from http.server import ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import unquote

from msgspec import Struct, field

from plainfall.standins.serving import Answering, running

__all__ = [
    "NodeArchive",
    "NodeRegistry",
    "archives_below",
    "built_node_packages",
    "node_archive",
    "serving_node",
    "tarball",
]

SOURCES = Path(__file__).parent / "node_sources"
_WHEN = 499_162_500  # the time that such archives' members bear


class NodeArchive(Struct, frozen=True):
    """One version of a package: its archive and what its manifest says."""

    name: str
    version: str
    content: bytes
    manifest: Mapping[str, Any] = field(default_factory=dict)

    @property
    def integrity(self) -> str:
        """Subresource Integrity of the archive, SHA-512."""
        return "sha512-" + base64.b64encode(hashlib.sha512(self.content).digest()).decode()

    @property
    def path(self) -> str:
        """Where a registry keeps it."""
        return f"{self.name}/-/{self.name.rpartition('/')[2]}-{self.version}.tgz"


def tarball(
    members: Mapping[str, bytes], *, top: str = "package", links: Mapping[str, str] | None = None
) -> bytes:
    """A gzipped tar archive of these files below one folder, the same bytes each time; ``links`` are symbolic
    links, for trials. A name that begins with ``!`` is executable."""
    packed = io.BytesIO()
    with tarfile.open(fileobj=packed, mode="w", format=tarfile.USTAR_FORMAT) as archive:
        for name, content in sorted(members.items()):
            info = tarfile.TarInfo(f"{top}/{name.lstrip('!')}")
            info.size, info.mtime, info.mode = len(content), _WHEN, 0o755 if name.startswith("!") else 0o644
            archive.addfile(info, io.BytesIO(content))
        for name, target in (links or {}).items():
            info = tarfile.TarInfo(f"{top}/{name}")
            info.type, info.linkname = tarfile.SYMTYPE, target
            archive.addfile(info)
    return gzip.compress(packed.getvalue(), mtime=0)


def node_archive(
    name: str, version: str = "1.0.0", members: Mapping[str, str] | None = None, **manifest: Any
) -> NodeArchive:
    """A small package: its manifest (name, version and what is given), and files, ``index.js`` at least."""
    whole = {"name": name, "version": version, **manifest}
    files = {"index.js": f"module.exports = {json.dumps(version)};\n", **(members or {})}
    content = {path: text.encode() for path, text in files.items()}
    return NodeArchive(name, version, tarball({**content, "package.json": json.dumps(whole).encode()}), whole)


def built_node_packages(sources: Path = SOURCES) -> list[NodeArchive]:
    """Our made-up packages: an archive of every tree in the folder."""
    found = []
    for tree in sorted(path.parent for path in sources.glob("*/package.json")):
        manifest = json.loads((tree / "package.json").read_text("utf-8"))
        files = {
            path.relative_to(tree).as_posix(): path.read_bytes()
            for path in sorted(tree.rglob("*"))
            if path.is_file()
        }
        found.append(NodeArchive(manifest["name"], manifest["version"], tarball(files), manifest))
    return found


def archives_below(folder: Path, *, read_manifests: bool = False) -> list[NodeArchive]:
    """Everything in a folder of ``NAME/VERSION.tgz`` (a scope's slash written %2F); what their manifests say
    only where that is wanted, since a lock needs no manifests."""
    found = []
    for path in sorted(folder.glob("*/*.tgz")):
        content = path.read_bytes()
        manifest = _manifest_in(content) if read_manifests else {}
        found.append(NodeArchive(unquote(path.parent.name), path.stem, content, manifest))
    return found


def _manifest_in(content: bytes) -> dict[str, Any]:
    with tarfile.open(fileobj=io.BytesIO(content)) as archive:
        for member in archive:
            if member.name.count("/") == 1 and member.name.endswith("/package.json"):
                file = archive.extractfile(member)
                if file is not None:
                    manifest: dict[str, Any] = json.load(file)
                    return manifest
    return {}


class NodeRegistry(ThreadingHTTPServer):
    """The server; ``url`` is the registry address to give to clients. ``login`` is the Authorization header
    that it wants ("" for none), ``asked`` the paths that were asked for."""

    daemon_threads = True
    request_queue_size = 256

    def __init__(self, archives: list[NodeArchive], login: str = "") -> None:
        super().__init__(("127.0.0.1", 0), Answering)
        self.login = login
        self.asked: list[str] = []
        self.files = {archive.path: archive.content for archive in archives}
        self.documents: dict[str, dict[str, Any]] = {}
        for archive in archives:
            document = self.documents.setdefault(
                archive.name, {"name": archive.name, "dist-tags": {}, "versions": {}}
            )
            address = f"{self.url}{archive.path}"
            dist = {"tarball": address, "integrity": archive.integrity}
            document["versions"][archive.version] = {
                "name": archive.name,
                "version": archive.version,
                **archive.manifest,
                "dist": dist,
            }
            document["dist-tags"]["latest"] = archive.version

    def answer(self, path: str) -> tuple[int, str, bytes]:
        """Status, media type and body."""
        if path in self.files:
            return 200, "application/octet-stream", self.files[path]
        if path in self.documents:
            return 200, "application/json", json.dumps(self.documents[path]).encode()
        return 404, "application/json", b'{"error": "not found"}'

    @property
    def url(self) -> str:
        """The registry's address."""
        return f"http://127.0.0.1:{self.server_address[1]}/"


@contextmanager
def serving_node(archives: list[NodeArchive], login: str = "") -> Iterator[NodeRegistry]:
    """Serves the archives on a free loopback port while the block runs."""
    registry = NodeRegistry(archives, login)
    with running(registry):
        yield registry
