"""Getting packages into the cache: fetched, checked against their integrity, unpacked, once for this user."""

from __future__ import annotations

import hashlib
import os
import shutil
import stat
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import quote, unquote, urlsplit

from msgspec.structs import replace

from plainfall.confinement import folder_below
from plainfall.ecosystems.node.clients.configuration import Registries
from plainfall.ecosystems.node.install.bins import bins_of, bundled_bins
from plainfall.ecosystems.node.install.repositories import RepositorySource, pack, repository_source
from plainfall.ecosystems.node.lists.documents import plain_manifest
from plainfall.ecosystems.node.lists.locks.package import Package
from plainfall.ecosystems.shared.tree_store import TreeStore
from plainfall.errors import ArchiveRefused, BadInput, DependencyProblem, HashMismatch
from plainfall.evidence import Evidence
from plainfall.packages.cache import CachedTree, make_tree
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.checkouts import apply_patch, check_out
from plainfall.packages.client import without_credentials
from plainfall.packages.digests import Digest
from plainfall.packages.local import archive_of_clone
from plainfall.packages.tarballs import unpack_tarball
from plainfall.packages.unpacking import Unpacked
from plainfall.patterns import regex
from plainfall.plain_files import plain_bytes
from plainfall.reading import foreign_json

__all__ = ["Store", "integrity_of", "registry_address"]

_FROM_REGISTRY = regex(r"/(?:@[^/]+/)?[^/@]+/-/[^/]+\.tgz$")
_LARGEST_MANIFEST = 8 * 1024**2  # bytes
_PATCHING = 1  # changes with how patches are put on
_INSTALL_SCRIPTS = ("preinstall", "install", "postinstall")


def integrity_of(package: Package) -> Digest | None:
    """The strongest digest that a lock states for a package, None where it states none. Raises
    DependencyProblem for what is no digest, or for MD5, which protects nothing."""
    try:
        known = Digest.of_integrity(package.integrity)
    except ValueError as error:
        raise DependencyProblem(
            f"{package.label}: the lock's integrity is none: {error}",
            remedy="Nothing of it was used. Restore the lock file from version control, or write it again.",
        ) from error
    if known is not None and known.algorithm == "md5":
        raise DependencyProblem(
            f"{package.label}: the lock states only an MD5 digest, for which other bytes can be made",
            remedy="Nothing of it was used. Write the lock again with a current version of its tool.",
        )
    return known


def registry_address(registry: str, name: str, version: str) -> str:
    """Where a registry keeps an archive, by the layout that all registries of this kind share."""
    base = name.rpartition("/")[2]
    return f"{registry}{quote(name, safe='@/')}/-/{quote(base)}-{quote(version, safe='.-')}.tgz"


class Store(TreeStore):
    """Looks packages up and gets what is missing. ``part`` is where ``file:`` addresses and patches count
    from, ``clone`` what patches must be in."""

    registries: Registries
    part: Path
    clone: Path

    def another(self) -> Store:
        """One for a worker process."""
        return replace(self)

    def tree(self, package: Package) -> CachedTree:
        """The unpacked package. Raises HashMismatch, ArchiveRefused, RegistryProblem or DependencyProblem."""
        key = self.key(package)
        value = self.whole_tree(key)
        if value is not None:
            return value
        if package.patches:
            return self._patched(package)
        repository = repository_source(package.address)
        if repository is not None:
            return self._from_repository(package, repository)
        data, source = self._fetch(package)
        checked = self._content_key(package, self._checked(package, data, source))
        name = f"{package.name}-{package.version}.tgz"
        tree = make_tree(self.cache, checked, name, lambda folder: unpack_tarball(data, folder, name), _facts)
        if key is None:
            self.trees.remember(CacheKey.of_statement("node-sources", [source]), checked.name)
        return tree

    def manifest(self, package: Package) -> Mapping[str, Any]:
        """The manifest of a package in the cache; empty for one that is not there."""
        key = self.key(package)
        tree = self.trees.tree(key) if key is not None else None
        file = tree.folder / "package.json" if tree is not None else None
        if file is None or not file.is_file():
            return {}
        try:
            return plain_manifest(foreign_json(plain_bytes(file), str(file)))
        except BadInput:
            return {}  # a package whose manifest is no JSON has no peers, and is laid all the same

    def is_here(self, package: Package) -> bool:
        """Whether a package is in the cache, whole and undamaged."""
        return self.whole_tree(self.key(package)) is not None

    def key(self, package: Package) -> CacheKey | None:
        """The cache's key of a package, if it is known before anything is fetched."""
        if package.patches:
            base = self.key(replace(package, patches=()))
            return self._patched_key(base, [self._patch(name) for name in package.patches]) if base else None
        repository = repository_source(package.address)
        if repository is not None:
            return repository.key
        known = integrity_of(package)
        if known is not None:
            return self._content_key(package, known)
        source = self._sources(package)[0]
        if source.startswith("file:"):
            return None
        remembered = self.trees.recall(CacheKey.of_statement("node-sources", [source]))
        return CacheKey.recorded("node", remembered) if isinstance(remembered, str) else None

    def _content_key(self, package: Package, digest: Digest) -> CacheKey:
        """By the digest; where other bytes with the same one can be made, by the addresses, too."""
        if digest.weak:
            return CacheKey.of_statement("node", self._sources(package), str(digest))
        return CacheKey.of_content("node", digest)

    @staticmethod
    def _patched_key(base: CacheKey, patches: Sequence[Path]) -> CacheKey:
        material = [base.name, *(hashlib.sha256(plain_bytes(one)).hexdigest() for one in patches)]
        return CacheKey.of_product(
            "node", material=material, tools=[_PATCHING], runtime="", registries=[], allowed=True
        )

    def _from_repository(self, package: Package, repository: RepositorySource) -> CachedTree:
        """The files of a revision, as its own manifest chooses them; its preparing scripts are not run."""
        with self.trees.workshop() as name:
            checkout = Path(name, "checkout")
            commit = check_out(repository.addresses, repository.revision, checkout, self.variables)
            self.fetched += 1
            inner = folder_below(checkout, repository.folder, Evidence(repository.addresses[0]))
            return make_tree(
                self.cache,
                repository.key_of(commit),
                package.label,
                lambda folder: pack(inner, folder),
                lambda folder, files: _facts(folder, files, prepared=False),
            )

    def _patch(self, name: str) -> Path:
        path = (self.part / name).resolve()
        if not path.is_relative_to(self.clone.resolve()) or not path.is_file():
            raise DependencyProblem(
                f"the patch {name} is not in the clone",
                place=Evidence(name),
                remedy="Restore it from version control, or take the entry that names it out.",
            )
        return path

    def _patched(self, package: Package) -> CachedTree:
        """A package with patches of the clone put on it: a tree of its own in the cache."""
        base = self.tree(replace(package, patches=()))
        patches = [self._patch(name) for name in package.patches]
        key = self._patched_key(base.key, patches)

        def unpack(folder: Path) -> list[Unpacked]:
            shutil.copytree(base.folder, folder, symlinks=True, dirs_exist_ok=True)
            for patch in patches:
                apply_patch(patch, folder, self.variables)
            files = []
            for path in sorted(one for one in folder.rglob("*") if one.is_file() and not one.is_symlink()):
                state = os.stat(path)
                name = path.relative_to(folder).as_posix()
                files.append(Unpacked(name, stat.S_IMODE(state.st_mode), state.st_size, state.st_mtime_ns))
            return files

        return make_tree(self.cache, key, package.label, unpack, _facts)

    def _checked(self, package: Package, data: bytes, source: str) -> Digest:
        known = integrity_of(package)
        if known is None:
            return Digest.of_data("sha512", data)
        got = Digest.of_data(known.algorithm, data)
        if got != known:
            raise HashMismatch(
                f"{package.label} from {without_credentials(source)} has {got}, but the lock file says {known}",
                remedy="The file was thrown away. Either the lock file is wrong or the registry gave another "
                "file under this name: compare with a teammate's before you change the lock.",
            )
        return known

    def _sources(self, package: Package) -> list[str]:
        """Where to look, in order. An address at a registry says what; the configuration says where from."""
        address = package.address
        registry = registry_address(self.registries.of(package.name), package.name, package.version)
        if not address:
            return [registry]
        if address.startswith("file:"):
            return [address]
        if address.startswith(("http://", "https://")):
            if _FROM_REGISTRY.search(urlsplit(address).path) and package.version:
                return list(dict.fromkeys([registry, address]))
            return [address]
        raise DependencyProblem(
            f"{package.label} comes from {without_credentials(address)}, which this version cannot fetch",
            remedy="Archives at a registry, at an address or in the clone, and repositories under git are "
            "supported.",
        )

    def _fetch(self, package: Package) -> tuple[bytes, str]:
        sources = self._sources(package)
        if sources[0].startswith("file:"):
            return archive_of_clone(
                self.part, self.clone, unquote(sources[0].removeprefix("file:"))
            ), sources[0]
        answer = self.first_answer(sources)
        if answer is None:
            raise DependencyProblem(
                f"{package.label} is not at {without_credentials(sources[0])}",
                remedy="Ask whether the version was withdrawn, or whether another registry has it (.npmrc).",
            )
        return answer


def _facts(folder: Path, files: list[Unpacked], *, prepared: bool = True) -> dict[str, Any]:
    """What must be known of a package besides its files; its commands are made executable on the way. One
    that was not ``prepared`` comes from a repository, where its publisher's preparing was not done."""
    names = {file.path for file in files}
    if any(file.path == "package.json" and file.size > _LARGEST_MANIFEST for file in files):
        raise ArchiveRefused("a package whose package.json is larger than any such file")
    try:
        document = foreign_json(plain_bytes(folder / "package.json"), "package.json")
    except (OSError, BadInput) as error:
        raise ArchiveRefused(f"a package without a package.json that can be read: {error}") from error
    if not isinstance(document, dict):
        raise ArchiveRefused("a package whose package.json is no object")
    bins = bins_of(document)
    inner = bundled_bins(folder, names)
    runnable = {*bins.values(), *(path for rows in inner.values() for path in rows.values())}
    for position, file in enumerate(files):
        if file.path in runnable:
            mode = file.mode | 0o111
            os.chmod(folder / file.path, mode)
            state = os.stat(folder / file.path)
            files[position] = Unpacked(file.path, stat.S_IMODE(state.st_mode), file.size, state.st_mtime_ns)
    scripts = document.get("scripts")
    value = scripts if isinstance(scripts, dict) else {}
    names_of_scripts = _INSTALL_SCRIPTS if prepared else (*_INSTALL_SCRIPTS, "prepare")
    wants = {name: str(value[name]) for name in names_of_scripts if value.get(name)}
    if "binding.gyp" in names and "install" not in wants and "preinstall" not in wants:
        wants["install"] = "node-gyp rebuild"
    return {
        "name": str(document.get("name", "")),
        "version": str(document.get("version", "")),
        "bins": {name: path for name, path in bins.items() if path in names},
        "wants": wants,
        "inner": inner,
        "native": "binding.gyp" in names and not any(name.startswith("prebuilds/") for name in names),
    }
