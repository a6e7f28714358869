"""The metadata of a package (core metadata 2.x) without fetching more of it than is needed."""

from __future__ import annotations

import io
import lzma
import re
import zipfile
import zlib
from collections.abc import Callable, Sequence
from functools import lru_cache
from pathlib import Path
from urllib.parse import unquote, urlsplit

from msgspec import Struct
from packaging.requirements import InvalidRequirement, Requirement

from plainfall.ecosystems.python.resolve.simple import IndexFile
from plainfall.errors import RegistryProblem
from plainfall.packages.cache import PackageCache
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.client import RegistryClient

__all__ = ["Metadata", "MetadataSource", "parse_metadata"]

_LARGEST = 8 * 1024**2  # bytes of a METADATA that are read
# Characters before the description: a thousand requirements are a tenth of it.
_LARGEST_HEAD = 1024**2
# Characters of a requirement, and of such a head, that are kept in memory.
_SHORT, _REMEMBERED = 300, 64 * 1024
_TAIL = 48 * 1024  # bytes; the central directory of most wheels, and often the METADATA too, lie within


class Metadata(Struct, frozen=True):
    """What resolving needs: the requirements with their markers; ``dynamic`` tells that a source package
    says they are only known after a build; ``python`` is the specifier of the versions of Python that it is for
    ("": any), which not every index repeats beside the archive."""

    requires: tuple[Requirement, ...]
    dynamic: bool = False
    python: str = ""


@lru_cache(maxsize=16384)
def _requirement(text: str) -> Requirement:
    """A line is read once: the releases of a package mostly repeat each other's. Raises InvalidRequirement."""
    return Requirement(text)


def parse_metadata(text: str) -> Metadata:
    """The requirements of a METADATA or PKG-INFO text; one that cannot be read (old packages have such) is
    skipped, as the reference client did when it was published."""
    requires = []
    version, python = "1.0", ""
    dynamic: set[str] = set()
    for line in re.split(r"\r?\n", re.split(r"\r?\n\r?\n", text, maxsplit=1)[0]):
        key, joined, value = line.partition(":")
        name = key.strip().lower()
        if not joined or line[:1].isspace():
            continue
        if name == "requires-dist":
            try:
                wish = value.strip()
                requires.append(_requirement(wish) if len(wish) <= _SHORT else Requirement(wish))
            except InvalidRequirement:
                continue
        elif name == "metadata-version":
            version = value.strip()
        elif name == "requires-python":
            python = value.strip()
        elif name == "dynamic":
            dynamic.add(value.strip().lower())
    old = tuple(int(number) for number in re.findall(r"\d+", version)[:2]) < (2, 2)
    return Metadata(tuple(requires), old or "requires-dist" in dynamic, python)


class MetadataSource:
    """Gets metadata by the cheapest way: remembered, the index's own file (PEP 658), the end of the archive by byte
    ranges, the whole archive. ``build`` builds a source package and returns its METADATA; ``built_with`` is
    what such a build depends on (interpreter, day, registries)."""

    def __init__(
        self,
        client: RegistryClient,
        cache: PackageCache,
        build: Callable[[IndexFile], str],
        built_with: Sequence[str],
    ) -> None:
        self._client = client
        self._cache = cache
        self._build = build
        self._built_with = built_with
        self._read: dict[tuple[str, str], Metadata] = {}

    def of(self, file: IndexFile) -> Metadata:
        """The metadata of an archive, read once. Raises RegistryProblem, ArchiveRefused, or what a build raises."""
        asked = file.url, file.hashes.get("sha256", "")
        known = self._read.get(asked)
        if known is None:
            text = self._text_of(file)
            end = text.find("\n\n")
            size = end if end >= 0 else len(text)
            if size > _LARGEST_HEAD:
                raise RegistryProblem(
                    f"what {file.filename} says of itself is {size:,} characters long, before its description"
                )
            known = parse_metadata(text)
            if size <= _REMEMBERED:
                self._read[asked] = known
        return known

    def _text_of(self, file: IndexFile) -> str:
        digest = file.hashes.get("sha256")
        # What is said at an address counts for those who ask that very address.
        built = () if file.filename.endswith(".whl") else self._built_with
        key = CacheKey.of_statement("metadata", [file.url], digest, file.metadata, *built)
        text = self._cache.recall(key) if digest else None
        if not isinstance(text, str):
            text = self._text(file)
            if digest:
                self._cache.remember(key, text)
        return text

    def _text(self, file: IndexFile) -> str:
        wheel = file.filename.endswith(".whl")
        if file.metadata:
            page = self._client.page(f"{file.url}.metadata")
            if page is not None:
                return page.body.decode("utf-8", "replace")
        if not wheel:
            return self._build(file)
        try:
            with self._opened(file) as archive:
                for info in archive.infolist():
                    if re.fullmatch(r"[^/]+\.dist-info/METADATA", info.filename):
                        with archive.open(info) as opened:
                            return opened.read(_LARGEST).decode("utf-8", "replace")
        except (zipfile.BadZipFile, zlib.error, lzma.LZMAError, EOFError, RuntimeError, ValueError) as error:
            raise RegistryProblem(f"{file.filename} is damaged: {error}") from error
        raise RegistryProblem(f"{file.filename} holds no METADATA")

    def _opened(self, file: IndexFile) -> zipfile.ZipFile:
        try:
            if file.url.startswith("file:"):
                return zipfile.ZipFile(Path(unquote(urlsplit(file.url).path)))
            return zipfile.ZipFile(_Remote(self._client, file.url))
        except zipfile.BadZipFile as error:
            raise RegistryProblem(f"{file.url} is no wheel: {error}") from error


class _Remote(io.RawIOBase):
    """A remote file read by ranges; its end is fetched first, since a zip archive is read from there."""

    def __init__(self, client: RegistryClient, url: str) -> None:
        self._client = client
        self._url = url
        self._position = 0
        page = client.page(url, span=(-_TAIL, 0))
        if page is None:
            raise RegistryProblem(f"{url} does not exist")
        self._size = page.total or len(page.body)
        self._pieces: dict[int, bytes] = {self._size - len(page.body): page.body}

    def seekable(self) -> bool:
        return True

    def readable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        base = {io.SEEK_SET: 0, io.SEEK_CUR: self._position, io.SEEK_END: self._size}[whence]
        self._position = max(0, base + offset)
        return self._position

    def tell(self) -> int:
        return self._position

    def read(self, size: int = -1) -> bytes:
        end = self._size if size < 0 else min(self._size, self._position + size)
        for start, piece in self._pieces.items():
            if start <= self._position and end <= start + len(piece):
                data = piece[self._position - start : end - start]
                self._position = end
                return data
        start = self._position
        page = self._client.page(self._url, span=(start, max(end, min(self._size, start + 8192)) - 1))
        if page is None:
            raise RegistryProblem(f"{self._url} no longer exists")
        self._pieces[start if page.total else 0] = page.body
        if (start if page.total else 0) + len(page.body) < end or (not page.total and start > len(page.body)):
            raise RegistryProblem(f"{self._url} gave fewer bytes than it has")
        return self.read(end - start)
