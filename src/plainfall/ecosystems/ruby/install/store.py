"""Getting Ruby's packages into the cache: fetched, checked, unpacked, once for this user."""

from __future__ import annotations

import gzip
import hashlib
import io
import os
import subprocess
import tarfile
import zlib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from plainfall.confinement import folder_below
from plainfall.ecosystems.ruby.lists.locks import Locked
from plainfall.ecosystems.ruby.resolve.index import Offers
from plainfall.ecosystems.ruby.resolve.metadata import read_metadata
from plainfall.ecosystems.shared.tree_store import TreeStore
from plainfall.errors import ArchiveRefused, DependencyProblem, HashMismatch, RegistryProblem
from plainfall.packages.answers import LIMITS
from plainfall.packages.cache import CachedTree, make_tree
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.client import without_credentials
from plainfall.packages.digests import Digest
from plainfall.packages.tarballs import unpack_tarball
from plainfall.processes import run

__all__ = ["Store", "open_archive"]

_METADATA = 8 << 20  # bytes that a description may unpack to
_SERIALISE = Path(__file__).parents[1] / "library" / "plain_gemspec.rb"


class Store(TreeStore):
    """Looks packages up and gets what is missing; ``lock`` is the path of the lock, for messages, ``ruby`` the
    interpreter by which descriptions in repositories are evaluated ("": none, they stay the programs that they
    are)."""

    mirrors: Mapping[str, str]
    lock: str
    ruby: str = ""

    def __post_init__(self) -> None:
        super().__post_init__()  # a struct is made anew when it gets a dict: super() alone finds none
        self._offers: Offers | None = None

    def another(self) -> Store:
        """One for a worker process."""
        return replace(self)

    @property
    def offers(self) -> Offers:
        """The registries; opened when they are needed first."""
        if self._offers is None:
            self._offers = Offers([], self.connection, self.variables, self.mirrors)
        return self._offers

    def close(self) -> None:
        """Closes the connections."""
        if self._offers is not None:
            self._offers.close()

    def key(self, package: Locked) -> CacheKey | None:
        """The cache's key of a package: its checksum, or the repository's addresses and revision with the Ruby that
        evaluates descriptions; None if only a registry can tell the checksum, and none was asked yet."""
        if package.source.kind == "git":
            remotes, revision = package.source.remotes, package.source.revision
            return CacheKey.of_statement("ruby", remotes, revision, self.ruby)
        if package.checksum:
            return self._content_key(package.checksum)
        known = self.trees.recall(self._seen(package)) if package.source.remotes else None
        return self._content_key(known) if isinstance(known, str) else None

    @staticmethod
    def _content_key(sha256: str) -> CacheKey:
        try:
            return CacheKey.of_content("ruby", Digest.of_hex("sha256", sha256))
        except ValueError as error:
            raise ArchiveRefused(
                f"{sha256[:80]!r} is no SHA-256 digest, and nothing is looked up under it",
                remedy="Restore the lock from version control, or write it again with its tool.",
            ) from error

    @staticmethod
    def _seen(package: Locked) -> CacheKey:
        return CacheKey.of_statement("ruby-sums", package.source.remotes, package.full_name)

    def tree(self, package: Locked) -> CachedTree:
        """The unpacked package. Raises HashMismatch, ArchiveRefused, RegistryProblem or DependencyProblem."""
        key = self.key(package)
        value = self.whole_tree(key)
        if value is not None:
            return value
        if package.source.kind == "git" and key is not None:
            return self._of_repository(package, key)
        return self._of_registry(package)

    def _of_registry(self, package: Locked) -> CachedTree:
        if not package.source.remotes:
            raise DependencyProblem(
                f"{package.label}: the lock names no registry for it",
                place=package.place,
                remedy="Restore the lock from version control, or write it again with its tool.",
            )
        expected = package.checksum
        problem: RegistryProblem | None = None
        for registry in package.source.remotes:
            try:
                stated = expected or self._stated(package, registry)
                data = self._fetch(package, registry)
            except RegistryProblem as error:
                problem = problem or error
                continue
            if data is None:
                continue
            got = hashlib.sha256(data).hexdigest()
            if stated and got != stated:
                raise HashMismatch(
                    f"{package.label} from {without_credentials(registry)} has the SHA-256 {got}, but "
                    f"{'the lock' if expected else 'the registry itself'} says {stated}",
                    place=package.place,
                    remedy="The file was thrown away. Either that is wrong or the host gave another file: compare "
                    "with a teammate's before you change the lock.",
                )
            tree = self._unpacked(package, data, got, checked=bool(stated))
            if not expected:
                self.trees.remember(self._seen(package), got)
            return tree
        if problem is not None:
            raise RegistryProblem(
                f"{package.label}: its archive cannot be had: {problem.cause}",
                place=package.place,
                lines=problem.lines,
                remedy=problem.remedy,
            ) from problem
        shown = ", ".join(without_credentials(one) for one in package.source.remotes)
        raise RegistryProblem(
            f"{package.label} ({package.full_name}.gem) is not at {shown}",
            place=package.place,
            remedy="Ask whether that version was withdrawn; another one needs the lock to be written again.",
        )

    def _stated(self, package: Locked, registry: str) -> str:
        """The checksum that a registry says, "" where it says none or has no index."""
        for offer in self.offers.of(package.name, [registry]):
            if offer.full_name == package.full_name:
                return offer.checksum
        return ""

    def _fetch(self, package: Locked, registry: str) -> bytes | None:
        address = f"{self.offers.address_of(registry)}gems/{package.full_name}.gem"
        if not address.startswith(("https://", "http://")):
            raise DependencyProblem(
                f"{package.label} comes from {without_credentials(registry)[:200]!r}, which is no web address",
                place=package.place,
                remedy="Restore the lock from version control, or write it again with its tool.",
            )
        page = self.offers.client.page(address, largest=LIMITS.in_memory)
        if page is None:
            return None
        self.note_fetched(len(page.body))
        return page.body

    def _unpacked(self, package: Locked, data: bytes, key: str, *, checked: bool) -> CachedTree:
        name = f"{package.full_name}.gem"
        facts, inner = open_archive(data, name)
        facts["checked"] = checked
        told = (facts["name"], facts["version"])
        if told != (package.name, package.version):
            raise ArchiveRefused(
                f"{name} says that it is {facts['name']} {facts['version']}",
                place=package.place,
                remedy="Nothing of it was used. Tell who runs the registry.",
            )
        return make_tree(
            self.cache,
            self._content_key(key),
            name,
            lambda folder: unpack_tarball(inner, folder, name, wrapped=False),
            lambda folder, files: {"spec": facts},
        )

    def _of_repository(self, package: Locked, key: CacheKey) -> CachedTree:
        """A commit: its files, and the descriptions that lie in it as they are when evaluated there."""
        source = package.source
        return self.tree_of_commit(
            source.remotes,
            source.revision,
            key,
            package.label,
            package.place,
            lambda folder, files: {},
            lambda checkout: self._describe(checkout, package),
        )

    def _describe(self, checkout: Path, package: Locked) -> None:
        for folder in (checkout, *sorted(one.parent for one in checkout.glob("*/*.gemspec"))):
            inside = folder_below(checkout, os.path.relpath(folder, checkout), package.place)
            for spec in sorted(inside.glob("*.gemspec")):
                if not spec.is_symlink() and self.ruby:
                    self._evaluated(spec, package)

    def _evaluated(self, spec: Path, package: Locked) -> None:
        """Writes a gemspec anew as plain Ruby: the program in it asks git for its files, and there will be none."""
        variables = {
            "PATH": self.variables.get("PATH", "/usr/bin:/bin"),
            "LANG": "C.UTF-8",
            "HOME": str(spec.parent),
        }
        try:
            done = run([self.ruby, str(_SERIALISE), spec.name], variables, folder=spec.parent, seconds=60)
        except (OSError, subprocess.TimeoutExpired) as error:
            raise DependencyProblem(
                f"{package.label}: {spec.name} in its repository was not evaluated: {error}",
                place=package.place,
            ) from error
        if done.status:
            raise DependencyProblem(
                f"{package.label}: {spec.name} in its repository cannot be evaluated",
                place=package.place,
                lines=tuple(done.errors.strip().splitlines()[-4:]),
                remedy="Ask whoever publishes it; another revision may be right.",
            )


def open_archive(data: bytes, name: str) -> tuple[dict[str, Any], bytes]:
    """The description in a package's archive, and the archive of its files. Raises ArchiveRefused."""
    members: dict[str, bytes] = {}
    try:
        with tarfile.open(fileobj=io.BytesIO(data), mode="r:") as archive:
            for member in archive:
                if member.isfile() and member.name in ("metadata.gz", "data.tar.gz"):
                    file = archive.extractfile(member)
                    members[member.name] = file.read() if file is not None else b""
        description = _inflated(members["metadata.gz"], name)
        inner = members["data.tar.gz"]
    except (tarfile.TarError, KeyError, OSError, EOFError, zlib.error, gzip.BadGzipFile) as error:
        what = f"it has no {error.args[0]}" if isinstance(error, KeyError) else str(error)
        raise ArchiveRefused(
            f"{name} is damaged: {what}",
            remedy="Run the same command again to fetch it again; if it stays so, the registry's copy is bad.",
        ) from error
    return read_metadata(description, name), inner


def _inflated(data: bytes, name: str) -> bytes:
    with gzip.open(io.BytesIO(data)) as opened:
        text = opened.read(_METADATA + 1)
    if len(text) > _METADATA:
        raise ArchiveRefused(f"{name}: its description unpacks to over {_METADATA:,} bytes: a size bomb")
    return text
