"""Chooses the archive for a requirement: the indexes and folders are asked, the best tag wins."""

from __future__ import annotations

import sys
import threading
from collections.abc import Iterable, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from functools import lru_cache
from pathlib import Path
from typing import Any
from urllib.parse import quote, unquote, urlsplit

from msgspec import Struct
from packaging.specifiers import InvalidSpecifier, SpecifierSet
from packaging.tags import Tag
from packaging.utils import InvalidSdistFilename, canonicalize_name, parse_sdist_filename
from packaging.version import InvalidVersion, Version

from plainfall.ecosystems.python.clients.configuration import Source, Sources
from plainfall.ecosystems.python.install.wheel_names import wheel_parts
from plainfall.ecosystems.python.lists.pins import Pin
from plainfall.ecosystems.python.resolve.simple import ACCEPT, IndexFile, parse_page
from plainfall.errors import DependencyProblem, RegistryProblem
from plainfall.evidence import Evidence
from plainfall.packages.client import RegistryClient, without_credentials
from plainfall.patterns import regex
from plainfall.plain_files import plain_bytes

__all__ = ["Finder", "Found", "admits_python", "version_of"]

_POST_RELEASE = regex(r"(?P<project>[A-Za-z][\w.-]*?)-(?P<version>\d+(?:\.\d+)+-\d+)\.(?:tar\.gz|zip)")
_SYSTEMS = {
    "win": "Windows", "macosx": "macOS", "manylinux": "Linux", "musllinux": "Linux", "linux": "Linux"
}  # fmt: skip
_OWN_SYSTEM = {"linux": "Linux", "darwin": "macOS", "win32": "Windows"}.get(sys.platform, "")
_AT_ONCE = 8  # pages asked for at the same time


class Found(Struct, frozen=True):
    """The archive that was chosen, its version, and a remark for people (a yanked release), if any."""

    file: IndexFile
    version: str
    remark: str = ""


class Finder:
    """Looks into the sources for one interpreter; with ``as_of`` (a day, ISO 8601) versions are chosen among what
    was published by then, as far as the index tells. Safe to use from several threads."""

    def __init__(
        self,
        client: RegistryClient,
        sources: Sources,
        tags: Sequence[Tag],
        facts: Mapping[str, Any],
        as_of: str = "",
    ) -> None:
        self._client = client
        self._sources = sources
        self._rank = {tag: position for position, tag in enumerate(tags)}
        self._ranks: dict[frozenset[Tag], int | None] = {}
        self._admitted: dict[str, bool] = {}
        self._as_of = as_of
        self._python = Version(str(facts["version"]))
        self._pages: dict[str, Future[list[IndexFile]]] = {}
        self._versions: dict[str, dict[Version, list[IndexFile]]] = {}
        self._pool = ThreadPoolExecutor(_AT_ONCE)
        self._lock = threading.Lock()

    def offered(self, name: str) -> list[IndexFile]:
        """Everything that the sources offer under a normalised name, folders of archives first."""
        self.prefetch([name])
        with self._lock:
            future = self._pages[name]
        return future.result()

    def prefetch(self, names: Iterable[str]) -> None:
        """Begins to ask for these names' pages, without waiting."""
        with self._lock:
            for name in names:
                if name not in self._pages:
                    self._pages[name] = self._pool.submit(self._looked_up, name)

    def close(self) -> None:
        """Ends the threads; pages that are still under way are dropped."""
        self._pool.shutdown(wait=True, cancel_futures=True)

    def _looked_up(self, name: str) -> list[IndexFile]:
        files: list[IndexFile] = []
        for source in self._sources.links:
            files.extend(file for file in self._links(source) if _project(file.filename) == name)
        for source in self._sources.indexes:
            # A page may hold files of another name, and a name with dashes may be read as one with a version.
            files.extend(file for file in self._index(source, name) if _project(file.filename) == name)
        return files

    def versions(self, name: str) -> dict[Version, list[IndexFile]]:
        """What could be installed here, by version, the newest first: fitting wheels, and source packages."""
        with self._lock:
            known = self._versions.get(name)
        if known is None:
            by_text: dict[str, list[IndexFile]] = {}
            for file in self.offered(name):
                text = version_of(file)
                if self._as_of and file.uploaded[:10] > self._as_of:
                    continue
                if text and (self.rank(file) is not None or (_is_source(file) and self._admits(file))):
                    by_text.setdefault(text, []).append(file)
            by_version: dict[Version, list[IndexFile]] = {}
            for text, files in by_text.items():
                by_version.setdefault(Version(text), []).extend(files)  # 1.0 and 1.0.0 are one version
            known = {version: by_version[version] for version in sorted(by_version, reverse=True)}
            with self._lock:
                self._versions[name] = known
        return known

    def best(self, files: Sequence[IndexFile]) -> IndexFile:
        """The best of a version's archives: the best wheel, else a source package."""
        wheels = [file for file in files if self.rank(file) is not None]
        return min(wheels, key=lambda file: self.rank(file) or 0) if wheels else files[0]

    def pinned(self, pin: Pin) -> Found:
        """The best wheel for a pinned requirement. Raises DependencyProblem, saying what is offered."""
        version = pin.version
        offered = self.offered(pin.name)
        if not offered:
            raise self.unknown(pin.name, pin.evidence)
        of_version = [file for file in offered if _same(file, version)]
        if not of_version:
            raise self._no_version(pin, version, offered)
        listed = [file for file in of_version if _hash_fits(file, pin.hashes)]
        if not listed:
            raise DependencyProblem(
                f"none of the {len(of_version)} archives offered for {pin.name} {version} has a hash that "
                "is listed",
                place=pin.evidence,
                remedy="The lock file was made from other archives. Compare it with a teammate's, or lock "
                "this package again.",
            )
        best = min(
            (file for file in listed if self.rank(file) is not None),
            key=lambda file: self.rank(file) or 0,
            default=None,
        )
        if best is None:
            best = next((file for file in listed if _is_source(file) and self._admits(file)), None)
        if best is None:
            raise self._no_wheel(pin, version, listed)
        remark = ""
        if best.yanked is not None:
            reason = f": {best.yanked}" if best.yanked else ""
            remark = f"{pin.name} {version} was withdrawn by its publisher{reason} ({pin.evidence})"
        return Found(best, version, remark)

    def rank(self, file: IndexFile) -> int | None:
        """How well a wheel fits, smaller is better; None if it does not, or is no wheel."""
        parts = wheel_parts(file.filename)
        if parts is None or not self._admits(file):
            return None
        *_, build, tags = parts
        if tags not in self._ranks:
            self._ranks[tags] = min((self._rank[tag] for tag in tags if tag in self._rank), default=None)
        rank = self._ranks[tags]
        return None if rank is None else rank * 1000 - min(build[0] if build else 0, 999)

    def _admits(self, file: IndexFile) -> bool:
        wanted = file.requires_python
        if not wanted:
            return True
        if wanted not in self._admitted:
            self._admitted[wanted] = admits_python(wanted, self._python)
        return self._admitted[wanted]

    def _index(self, source: Source, name: str) -> list[IndexFile]:
        address = source.address
        if address.startswith("file:") or "://" not in address:
            folder = Path(unquote(urlsplit(address).path) if address.startswith("file:") else address, name)
            page = folder / "index.html"
            if page.is_file():
                return parse_page(plain_bytes(page), "text/html", page.as_uri())
            return _folder(folder)
        url = f"{address.rstrip('/')}/{quote(name)}/"
        answer = self._asked(source, url)
        return parse_page(answer.body, answer.media_type, answer.url) if answer else []

    def _links(self, source: Source) -> list[IndexFile]:
        address = source.address
        if "://" in address and not address.startswith("file:"):
            answer = self._asked(source, address)
            return parse_page(answer.body, "text/html", answer.url) if answer else []
        path = Path(unquote(urlsplit(address).path) if address.startswith("file:") else address)
        if path.is_dir():
            return _folder(path)
        if path.suffix in (".html", ".htm") and path.is_file():
            return parse_page(plain_bytes(path), "text/html", path.as_uri())
        return []

    def _asked(self, source: Source, url: str) -> Any:
        try:
            return self._client.page(url, accept=ACCEPT)
        except RegistryProblem as error:
            error.place = source.evidence
            raise

    def _places(self) -> str:
        return ", ".join(
            without_credentials(source.address) for source in (*self._sources.links, *self._sources.indexes)
        )

    def unknown(self, name: str, place: Evidence | None, said: Sequence[str] = ()) -> DependencyProblem:
        """The error for a name that no source offers."""
        return DependencyProblem(
            f"no source offers a package named {name}",
            place=place,
            remedy="Check the spelling; for a private package, name its index (extra-index-url).",
            lines=(
                *said,
                f"asked: {self._places() or 'nothing (no index, no folder of archives is configured)'}",
            ),
        )

    def _no_version(self, pin: Pin, version: str, offered: Sequence[IndexFile]) -> DependencyProblem:
        versions = sorted({result for file in offered if (result := version_of(file))}, key=Version)
        shown = ", ".join(versions[-6:]) or "none that can be read"
        return DependencyProblem(
            f"{pin.name} has no release {version}",
            place=pin.evidence,
            remedy=f"Offered are: {shown}.",
        )

    def _no_wheel(self, pin: Pin, version: str, listed: Sequence[IndexFile]) -> DependencyProblem:
        wheels = [file for file in listed if file.filename.endswith(".whl")] or list(listed)
        others = [str(v) for v in sorted(self.versions(pin.name), key=lambda v: _distance(v, version))]
        nearest = f" The nearest release that fits: --instead {pin.name}=={others[0]}" if others else ""
        refused = [file for file in wheels if not self._admits(file)]
        reason = f" (it wants Python {refused[0].requires_python})" if len(refused) == len(wheels) else ""
        systems = {_system_of(file.filename) for file in wheels}
        if "" not in systems:
            return DependencyProblem(
                f"{pin.name} {version} is made for {' and '.join(sorted(systems))} only",
                place=pin.evidence,
                remedy="On this machine the project runs without it, or not at all: its line wants a marker "
                "(; sys_platform == ...), which only its authors can add.",
                lines=tuple(file.filename for file in wheels[:8]),
            )
        return DependencyProblem(
            f"no archive of {pin.name} {version} fits Python {self._python} on this machine{reason}",
            place=pin.evidence,
            remedy="Choose a Python that one of these is made for (--runtime PATH), or take another release "
            f"for this clone.{nearest}",
            lines=tuple(file.filename for file in wheels[:8]),
        )


def admits_python(specifier: str, version: str | Version) -> bool:
    """Whether a package that is for some versions of Python (``Requires-Python``) is for this one.

    >>> [admits_python(one, "3.11.7") for one in (">=3.8,<3.12", ">=3.13", "anything")]
    [True, False, True]
    """
    try:
        return SpecifierSet(specifier).contains(version, prereleases=True)
    except InvalidSpecifier:
        return True  # published before this was checked; the tags decide


def version_of(file: IndexFile) -> str | None:
    """The version that an archive's name states, normalised; None if it states none."""
    parts = wheel_parts(file.filename) or _source_parts(file.filename)
    return parts[1] if parts else None


@lru_cache(maxsize=8192)
def _source_parts(filename: str) -> tuple[str, str] | None:
    """Project and version of a source package, normalised. ``soil-1.0.2-2`` is soil 1.0.2.post2 (PEP 440, implicit
    post releases), not version 2 of a project soil-1.0.2."""
    match = _POST_RELEASE.fullmatch(filename)
    if match:
        return canonicalize_name(match["project"]), f"{Version(match['version'])}"
    try:
        project, version = parse_sdist_filename(filename)
    except (InvalidSdistFilename, InvalidVersion):
        return None
    return project, str(version)


def _is_source(file: IndexFile) -> bool:
    return file.filename.endswith((".tar.gz", ".zip", ".tar.bz2", ".tar.xz", ".tgz"))


def _system_of(filename: str) -> str:
    """The one other system that a wheel's platform tag (PEP 425) names; "" for this one's or for any.

    >>> _system_of("gaugekit-1.0-cp312-cp312-win_amd64.whl"), _system_of("gaugekit-1.0-py3-none-any.whl")
    ('Windows', '')
    """
    platform = filename.removesuffix(".whl").rpartition("-")[2] if filename.endswith(".whl") else ""
    system = next((title for start, title in _SYSTEMS.items() if platform.startswith(start)), "")
    return "" if system == _OWN_SYSTEM else system


def _distance(version: Version, wanted: str) -> tuple[int, ...]:
    """How far a version is from the wanted one, number by number; newer before older where equal."""
    try:
        goal = Version(wanted).release
    except InvalidVersion:
        return ()
    width = max(len(goal), len(version.release))
    pairs = zip((*goal, *[0] * width), (*version.release, *[0] * width), strict=False)
    return (int(version.is_prerelease), *[abs(a - b) for a, b in list(pairs)[:width]])


def _project(filename: str) -> str | None:
    parts = wheel_parts(filename) or _source_parts(filename)
    return parts[0] if parts else None


def _same(file: IndexFile, version: str) -> bool:
    result = version_of(file)
    if result is None:
        return False
    try:
        wanted = Version(version)
    except InvalidVersion:
        return result == version
    offered = Version(result)
    # A pin without a local label admits every local label (PEP 440, version matching).
    return offered == wanted or (wanted.local is None and offered.public == str(wanted))


def _hash_fits(file: IndexFile, hashes: Mapping[str, frozenset[str]]) -> bool:
    """Whether the hash that the index states may be the listed one; one it does not state may be too."""
    known = [file.hashes[name] in accepted for name, accepted in hashes.items() if name in file.hashes]
    return all(known) if known else True


def _folder(folder: Path) -> list[IndexFile]:
    try:
        names = sorted(entry.name for entry in folder.iterdir())
    except OSError:
        return []  # a folder that is configured and absent offers nothing
    return [IndexFile(name, (folder / name).as_uri()) for name in names if _project(name)]
