"""A registry of PHP packages on loopback: its list, the versions of a package, archives, faults on request."""

from __future__ import annotations

import hashlib
import io
import json
import zipfile
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from http.server import ThreadingHTTPServer
from pathlib import Path
from typing import Any

from msgspec import Struct, field

from plainfall.standins.serving import Answering, running

__all__ = [
    "PhpArchive",
    "PhpRegistry",
    "built_php_packages",
    "php_archive",
    "php_lock",
    "serving_php",
    "zipped",
]

SOURCES = Path(__file__).parent / "php_sources"
_WHEN = (2026, 1, 5, 6, 0, 0)


class PhpArchive(Struct, frozen=True):
    """One version of a package: its archive and its manifest."""

    name: str
    version: str
    content: bytes
    manifest: Mapping[str, Any] = field(default_factory=dict)

    @property
    def reference(self) -> str:
        """What stands for the commit that the archive is made of."""
        return hashlib.sha1(self.content).hexdigest()

    @property
    def path(self) -> str:
        """Where a registry keeps it."""
        return f"archives/{self.name}/{self.version}.zip"

    def entry(self, registry: str, *, checksum: bool = True) -> dict[str, Any]:
        """What a lock says of it; ``registry`` is the address of the registry."""
        dist = {
            "type": "zip",
            "url": f"{registry}{self.path}",
            "reference": self.reference,
            "shasum": hashlib.sha1(self.content).hexdigest() if checksum else "",
        }
        rest = {key: value for key, value in self.manifest.items() if key not in ("name", "version", "type")}
        kind = self.manifest.get("type", "library")
        return {"name": self.name, "version": self.version, "dist": dist, **rest, "type": kind}


def zipped(members: Mapping[str, bytes], *, top: str = "package-1a2b3c4") -> bytes:
    """A zip archive of these files below one folder ("" for none), the same bytes each time. A name that begins
    with ``!`` is executable."""
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in sorted(members.items()):
            info = zipfile.ZipInfo(f"{top}/{name.lstrip('!')}" if top else name.lstrip("!"), _WHEN)
            info.external_attr = (0o100755 if name.startswith("!") else 0o100644) << 16
            archive.writestr(info, content, zipfile.ZIP_DEFLATED)
    return packed.getvalue()


def php_archive(
    name: str, version: str = "1.0.0", members: Mapping[str, str] | None = None, **manifest: Any
) -> PhpArchive:
    """A small package: its manifest (name and what is given; ``_`` in a key stands for ``-``), and files."""
    whole = {"name": name, **{key.replace("_", "-"): value for key, value in manifest.items()}}
    files = {path: text.encode() for path, text in (members or {}).items()}
    return PhpArchive(name, version, zipped({**files, "composer.json": json.dumps(whole).encode()}), whole)


def built_php_packages(sources: Path = SOURCES) -> list[PhpArchive]:
    """Our made-up packages: an archive of every tree in the folder."""
    found = []
    for tree in sorted(path.parent for path in sources.glob("*/composer.json")):
        manifest = json.loads((tree / "composer.json").read_text("utf-8"))
        files = {
            path.relative_to(tree).as_posix(): path.read_bytes()
            for path in sorted(tree.rglob("*"))
            if path.is_file()
        }
        found.append(PhpArchive(manifest["name"], manifest.pop("version"), zipped(files), manifest))
    return found


def php_lock(
    document: Mapping[str, Any], archives: Sequence[PhpArchive], registry: str, *, checksum: bool = True
) -> str:
    """A composer.lock for a manifest, of these packages; those that only development asks for are listed so."""
    from plainfall.ecosystems.php.lists.manifests import fingerprint

    dev = {name for name in document.get("require-dev", {}) if name not in document.get("require", {})}
    ordered = sorted(archives, key=lambda one: one.name)
    return json.dumps(
        {
            "content-hash": fingerprint(document),
            "packages": [one.entry(registry, checksum=checksum) for one in ordered if one.name not in dev],
            "packages-dev": [one.entry(registry, checksum=checksum) for one in ordered if one.name in dev],
            "aliases": [],
            "minimum-stability": "stable",
            "stability-flags": [],
            "prefer-stable": False,
            "prefer-lowest": False,
            "platform": {name: text for name, text in document.get("require", {}).items() if "/" not in name},
            "platform-dev": [],
            "plugin-api-version": "2.3.0",
        },
        indent=4,
    )


class PhpRegistry(ThreadingHTTPServer):
    """The server; ``url`` is the registry address to give to clients. ``login`` is the Authorization header that it
    wants ("" for none), ``asked`` the paths that were asked for; ``files`` may be changed while it runs."""

    daemon_threads = True
    request_queue_size = 256

    def __init__(self, archives: Sequence[PhpArchive], login: str = "") -> None:
        super().__init__(("127.0.0.1", 0), Answering)
        self.login = login
        self.asked: list[str] = []
        self.files: dict[str, bytes] = {one.path: one.content for one in archives}
        by_name: dict[str, list[dict[str, Any]]] = {}
        for one in archives:
            by_name.setdefault(one.name, []).append(one.entry(self.url))
        for name, rows in by_name.items():
            self.files[f"versions/{name}.json"] = json.dumps({"packages": {name: rows}}).encode()
        listed = {
            "packages": [],
            "metadata-url": "/versions/%package%.json",
            "available-packages": sorted(by_name),
        }
        self.files["packages.json"] = json.dumps(listed).encode()

    def answer(self, path: str) -> tuple[int, str, bytes]:
        """Status, media type and body."""
        found = self.files.get(path)
        return (
            (404, "text/plain", b"not found") if found is None else (200, "application/octet-stream", found)
        )

    @property
    def url(self) -> str:
        """The registry's address."""
        return f"http://127.0.0.1:{self.server_address[1]}/"


@contextmanager
def serving_php(archives: Sequence[PhpArchive], login: str = "") -> Iterator[PhpRegistry]:
    """Serves the archives on a free loopback port while the block runs."""
    registry = PhpRegistry(archives, login)
    with running(registry):
        yield registry
