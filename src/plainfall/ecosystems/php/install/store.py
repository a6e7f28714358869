"""Getting PHP packages into the cache: fetched, checked, unpacked, once for this user.

A lock states an archive's checksum seldom; most often only the reference of the commit. Then the tree's own hash is
recorded when it is first seen, and another tree under the same reference is refused ever after.
"""

from __future__ import annotations

import hashlib
import os
import tempfile
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from plainfall.ecosystems.php.lists.manifests import Locked, strings
from plainfall.ecosystems.shared.tree_store import TreeStore
from plainfall.errors import DependencyProblem, HashMismatch, PlainfallError, RegistryProblem
from plainfall.evidence import Evidence
from plainfall.packages.cache import CachedTree, make_tree
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.client import without_credentials
from plainfall.packages.digests import Digest
from plainfall.packages.local import archive_of_clone
from plainfall.packages.tarballs import unpack_tarball
from plainfall.packages.unpacking import Unpacked, unpack_zip
from plainfall.plain_files import plain_digest

__all__ = ["Store"]


class Store(TreeStore):
    """Looks packages up and gets what is missing; ``lock`` is the path of the lock, for messages. ``part`` is where
    archives of the clone count from, ``clone`` what they must be in."""

    lock: str
    part: Path = Path("/nonexistent")
    clone: Path = Path("/nonexistent")

    def another(self) -> Store:
        """One for a worker process."""
        return replace(self)

    def key(self, package: Locked) -> CacheKey:
        """The cache's key of a package: the addresses that may give it, and all that the lock says of its
        content. An archive of the clone counts by its content."""
        dist, source = package.dist, package.source
        addresses = [*self._archives(package), *self._repositories(package)]
        stated = [str(dist.get(name) or "") for name in ("type", "shasum", "reference")]
        about = [package.name.lower(), package.normal, *stated, str(source.get("reference") or "")]
        if addresses and "://" not in addresses[0]:
            try:
                data = archive_of_clone(self.part, self.clone, addresses[0], Evidence(self.lock))
            except PlainfallError:
                addresses[0] = f"{self.part}/{addresses[0]}"  # why it cannot be had is said when it is wanted
            else:
                about.append(Digest.of_data("sha256", data).hex)
        return CacheKey.of_statement("php", addresses or [f"{self.part}/{self.lock}"], *about)

    @staticmethod
    def _archives(package: Locked) -> list[str]:
        """The addresses of a package's archive, mirrors included, in the order in which they are asked."""
        dist = package.dist
        addresses = [str(dist["url"])] if dist.get("url") else []
        for row in dist.get("mirrors") or () if isinstance(dist.get("mirrors"), list) else ():
            address = str(row.get("url") or "") if isinstance(row, dict) else ""
            if address and "%" not in address:
                addresses.insert(0 if row.get("preferred") else len(addresses), address)
        return addresses

    @staticmethod
    def _repositories(package: Locked) -> list[str]:
        """The addresses of a package's repository, mirrors included."""
        source = package.source
        return [str(source["url"]), *strings(source.get("mirrors"))] if source.get("url") else []

    def tree(self, package: Locked) -> CachedTree:
        """The unpacked package. Raises HashMismatch, ArchiveRefused, RegistryProblem or DependencyProblem."""
        key = self.key(package)
        value = self.whole_tree(key)
        if value is not None:
            return value
        if package.dist.get("url"):
            try:
                return self._of_archive(package, key)
            except RegistryProblem as problem:
                if not package.source.get("url"):
                    raise self._explained(package, problem) from problem
                try:
                    return self._of_repository(package, key)
                except DependencyProblem:
                    raise self._explained(package, problem) from problem
        if package.source.get("url"):
            return self._of_repository(package, key)
        raise DependencyProblem(
            f"{package.label}: the lock names neither an archive nor a repository for it",
            place=Evidence(self.lock),
            remedy="Restore the lock from version control, or write it again with its tool.",
        )

    def _explained(self, package: Locked, problem: PlainfallError) -> RegistryProblem:
        return RegistryProblem(
            f"{package.label}: its archive cannot be had: {problem.cause}",
            place=Evidence(self.lock),
            lines=problem.lines,
            remedy=f"{problem.remedy} The address is the one that the lock names; behind a login, write yours into "
            "auth.json of your own configuration folder.",
        )

    def _of_archive(self, package: Locked, key: CacheKey) -> CachedTree:
        data, address = self._fetch(package)
        shasum = str(package.dist.get("shasum") or "")
        if shasum:
            self._check(package, data, shasum, address)
        kind = str(package.dist.get("type") or "zip")
        name = f"{package.name.replace('/', '-')}-{package.version}.{kind}"

        def unpack(folder: Path) -> list[Unpacked]:
            if kind == "tar":
                return unpack_tarball(data, folder, name)
            if kind != "zip":
                raise DependencyProblem(
                    f"{package.label}: its archive is of the kind {kind!r}, and zip and tar are read",
                    place=Evidence(self.lock),
                    remedy="Ask whoever publishes it for one of these, or for a repository in the lock.",
                )
            with tempfile.TemporaryDirectory(prefix=".archive-", dir=folder.parent) as aside:
                archive, inner = Path(aside, "archive.zip"), Path(aside, "files")
                archive.write_bytes(data)
                inner.mkdir()
                return _without_wrapping(inner, folder, unpack_zip(archive, inner))

        return make_tree(
            self.cache, key, name, unpack, lambda folder, files: self._seen(package, folder, files)
        )

    def _of_repository(self, package: Locked, key: CacheKey) -> CachedTree:
        source = package.source
        if str(source.get("type")) != "git":
            raise DependencyProblem(
                f"{package.label} comes from a repository under {source.get('type')}, and git is read",
                place=Evidence(self.lock),
                remedy="Ask whoever publishes it for an archive.",
            )
        return self.tree_of_commit(
            self._repositories(package),
            str(source.get("reference") or ""),
            key,
            package.label,
            Evidence(self.lock),
            lambda folder, files: self._seen(package, folder, files),
        )

    def _check(self, package: Locked, data: bytes, shasum: str, address: str) -> None:
        try:
            known = Digest.of_hex("sha1", shasum)
        except ValueError as error:
            raise DependencyProblem(
                f"{package.label}: the lock's checksum is none: {error}",
                place=Evidence(self.lock),
                remedy="Nothing of it was used. Restore the lock file from version control.",
            ) from error
        got = Digest.of_data("sha1", data)
        if got != known:
            raise HashMismatch(
                f"{package.label} from {without_credentials(address)} has the SHA-1 {got.hex}, but the lock says "
                f"{known.hex}",
                place=Evidence(self.lock),
                remedy="The file was thrown away. Either the lock is wrong or the host gave another file: compare "
                "with a teammate's before you change the lock.",
            )

    def _seen(self, package: Locked, folder: Path, files: list[Unpacked]) -> dict[str, Any]:
        """Records the tree's hash under its reference, where the lock has no checksum. Raises HashMismatch."""
        reference = str(package.dist.get("reference") or package.source.get("reference") or "")
        if package.dist.get("shasum") or not reference:
            return {}
        whole = hashlib.sha256()
        for one in sorted(files, key=lambda one: one.path):
            whole.update(one.path.encode("utf-8", "surrogateescape") + b"\0")
            whole.update(plain_digest(folder / one.path))
        addresses = [*self._archives(package), *self._repositories(package)]
        key = CacheKey.of_statement("php-references", addresses, package.name.lower(), reference)
        got, known = whole.hexdigest(), self.trees.recall(key)
        if isinstance(known, str) and known != got:
            raise HashMismatch(
                f"{package.label}: other files come under the reference {reference[:12]} than when it was first "
                "seen on this machine",
                place=Evidence(self.lock),
                remedy="Nothing of it was used. A commit never changes: ask who publishes it, and compare with a "
                f"teammate's. If you trust the new one, take away {self.trees.conclusion(key)}.",
            )
        self.trees.remember(key, got)
        return {}

    def _fetch(self, package: Locked) -> tuple[bytes, str]:
        """The archive, from its address or a mirror. Raises RegistryProblem, DependencyProblem."""
        addresses = self._archives(package)
        if addresses and "://" not in addresses[0]:
            return archive_of_clone(self.part, self.clone, addresses[0], Evidence(self.lock)), addresses[0]
        for address in addresses:
            if not address.startswith(("https://", "http://")):
                raise DependencyProblem(
                    f"{package.label} comes from {without_credentials(address)[:200]}, which is no web address",
                    place=Evidence(self.lock),
                    remedy="Archives at an address, folders of the clone and git repositories are supported.",
                )
        answer = self.first_answer(addresses)
        if answer is None:
            raise RegistryProblem(
                f"nothing is at {without_credentials(addresses[0])}",
                remedy="Ask whether the version was withdrawn.",
            )
        return answer


def _without_wrapping(inner: Path, folder: Path, files: list[Unpacked]) -> list[Unpacked]:
    """Moves unpacked files into the folder, without the one folder that an archive wraps around them, and lists
    them."""
    entries = list(os.scandir(inner))
    start = ""
    if len(entries) == 1 and entries[0].is_dir(follow_symlinks=False):
        start = f"{entries[0].name}/"
        inner = inner / entries[0].name
    for entry in list(os.scandir(inner)):
        os.rename(entry.path, folder / entry.name)
    return [replace(one, path=one.path.removeprefix(start)) for one in files]
