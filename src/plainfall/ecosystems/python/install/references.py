"""Direct references: packages from a path, an archive's address, or a revision under version control."""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from plainfall.confinement import folder_below
from plainfall.ecosystems.python.install.supply import SourceArchive, Supply
from plainfall.ecosystems.python.install.wheel import describe_wheel
from plainfall.ecosystems.python.lists.pins import Pin, Reference
from plainfall.ecosystems.python.resolve.simple import IndexFile
from plainfall.errors import BuildFailed, DependencyProblem
from plainfall.evidence import Evidence
from plainfall.packages.cache import CachedTree, unpack_into_cache
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.checkouts import check_out
from plainfall.packages.client import copy_local
from plainfall.packages.digests import Digest
from plainfall.repository import last_commit_day
from plainfall.writing import digest_of_files

__all__ = ["References"]


class References:
    """Gets direct references, with a supply's means."""

    def __init__(self, supply: Supply) -> None:
        self._supply = supply

    def direct(self, reference: Reference, place: Evidence) -> tuple[CachedTree, str]:
        """The tree of a direct reference, and the text of its direct_url.json (PEP 610)."""
        if reference.kind == "git":
            return self._from_git(reference, place)
        if reference.kind == "archive":
            name = reference.address.rpartition("/")[2].partition("?")[0]
            archive, sha256 = self._supply.fetch(place, IndexFile(name, reference.address), reference.hashes)
            info: dict[str, Any] = {"archive_info": {"hashes": {"sha256": sha256}}}
            tree = self._from_archive(archive, sha256, name, place)
            return tree, json.dumps({"url": reference.address, **info})
        if reference.kind == "bundled":
            tree, _ = self._from_file(Path(reference.address), place, {})
            return tree, json.dumps({"url": Path(reference.address).as_uri(), "archive_info": {}})
        path = Path(os.path.normpath(self._supply.clone / reference.address))
        if not Path(os.path.realpath(path)).is_relative_to(os.path.realpath(self._supply.clone)):
            raise DependencyProblem(
                f"{reference.address} is outside the clone, and nothing is built or taken from there",
                place=place,
                remedy="Onboard the folder above both, or put the package into the clone.",
            )
        if not path.exists():
            raise DependencyProblem(
                f"{reference.address} does not exist",
                place=place,
                remedy="Correct the path; it counts from the folder of the list that names it.",
            )
        url = path.as_uri()
        if not path.is_dir():
            tree, sha256 = self._from_file(path, place, reference.hashes)
            return tree, json.dumps({"url": url, "archive_info": {"hashes": {"sha256": sha256}}})
        if reference.hashes:
            raise DependencyProblem(
                f"{reference.address} is a folder, and a hash is listed for it, which only an archive can have",
                place=place,
                remedy="Take the hash out of the list, or name the archive.",
            )
        source = folder_below(path, reference.subfolder, place)
        tree = self._from_folder(source, place, editable=reference.editable)
        return tree, json.dumps({"url": url, "dir_info": {"editable": True} if reference.editable else {}})

    def _from_file(
        self, path: Path, place: Evidence, hashes: Mapping[str, frozenset[str]]
    ) -> tuple[CachedTree, str]:
        """The tree of an archive on this machine, and its SHA-256."""
        with self._supply.cache.partial(CacheKey.of_machine("archive", str(path))) as partial:
            sha256 = copy_local(path.as_uri(), partial, hashes)
            archive = self._supply.cache.keep_archive(partial, sha256)
        return self._from_archive(archive, sha256, path.name, place), sha256

    def _from_archive(self, archive: Path, sha256: str, name: str, place: Evidence) -> CachedTree:
        if name.endswith(".whl"):
            tree = self._supply.cache.tree(CacheKey.of_content("python", Digest("sha256", sha256)))
            if tree is not None and not tree.damaged():
                return tree
            return unpack_into_cache(self._supply.cache.folder, archive, sha256, name, describe_wheel)
        return self._supply.built(SourceArchive(archive, sha256, name, Pin(name, "", place)))

    def _from_folder(self, source: Path, place: Evidence, *, editable: bool) -> CachedTree:
        """A folder's wheel. An editable one depends on its manifest only; a copied one on every file."""
        names = ["pyproject.toml", "setup.cfg", "setup.py"]
        if not any((source / name).is_file() for name in names):
            raise DependencyProblem(
                f"{source} holds no pyproject.toml and no setup.py, so it cannot be built", place=place
            )
        if not editable:
            environments = {one.parent.name for one in source.glob("*/pyvenv.cfg")}
            skipped = {".git", ".venv", ".plainfall", "__pycache__", *environments}
            names = [
                p.relative_to(source).as_posix()
                for p in source.rglob("*")
                if p.is_file() and not skipped & set(p.parts)
            ]
        status = os.stat(source)
        where = [str(source), status.st_dev, status.st_ino]
        key = self._supply.product_key("folder", *where, editable, digest_of_files(source, names))
        tree = self._supply.remembered(key)
        if tree is not None:
            return tree
        try:
            return self._build(source, key, place, editable)
        except (BuildFailed, DependencyProblem) as failure:
            day = last_commit_day(source, self._supply.surroundings)
            try:
                tree = self._build(source, key, place, editable, day) if day else None
            except (BuildFailed, DependencyProblem):
                tree = None
            if tree is None:
                raise failure from None
        self._supply.supplied.remarks += (
            f"{source.name} was built with the tools of {day}: newer ones fail",
        )
        return tree

    def _build(
        self, source: Path, key: CacheKey, place: Evidence, editable: bool, day: str = ""
    ) -> CachedTree:
        with self._supply.cache.workshop() as name:
            return self._supply.build(source, Path(name), key, source.name, place, editable=editable, day=day)

    def _from_git(self, reference: Reference, place: Evidence) -> tuple[CachedTree, str]:
        with self._supply.cache.workshop() as name:
            folder = Path(name, "clone")
            variables = self._supply.surroundings.variables  # with the person's own keys and agents
            commit = check_out([reference.address], reference.revision, folder, variables, place)
            source = folder_below(folder, reference.subfolder, place)
            key = self._supply.product_key("git", reference.address, commit, reference.subfolder)
            tree = self._supply.remembered(key)
            if tree is None:
                work = Path(name, "work")
                work.mkdir()
                label = reference.address.rpartition("/")[2].removesuffix(".git")
                tree = self._supply.build(source, work, key, label, place, editable=False)
        info = {"vcs": "git", "commit_id": commit, "requested_revision": reference.revision or None}
        vcs = {key: value for key, value in info.items() if value}
        return tree, json.dumps({"url": reference.address, "vcs_info": vcs})
