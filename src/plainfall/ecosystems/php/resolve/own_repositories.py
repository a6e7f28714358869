"""Packages that a manifest takes from version control, or from a folder of archives, without a registry.

Of a repository under git every tag that is a version, and every branch, is a version of the package whose manifest
it holds (the manifest of that very commit says what it needs)."""

from __future__ import annotations

import hashlib
import io
import zipfile
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from plainfall.ecosystems.php.lists.manifests import MANIFEST
from plainfall.ecosystems.php.resolve.versions import normalized
from plainfall.errors import BadInput, DependencyProblem
from plainfall.evidence import Evidence
from plainfall.packages.answers import LIMITS
from plainfall.packages.checkouts import Revision, file_in_history
from plainfall.packages.client import without_credentials
from plainfall.patterns import regex
from plainfall.plain_files import plain_bytes
from plainfall.reading import json_object

__all__ = ["GIT_KINDS", "rows_of_archives", "rows_of_git"]

GIT_KINDS = ("vcs", "git", "github", "gitlab", "bitbucket", "git-bitbucket", "forgejo")
_WEB = regex(r"(https?|ssh|git|file)://|[\w.-]+@[\w.-]+:")
_NUMERIC = regex(r"v?\d+(\.(\d+|x)){0,2}")
_MOST_ARCHIVES = 500


def rows_of_git(address: str, variables: Mapping[str, str]) -> list[dict[str, Any]]:
    """The versions in a repository, as entries of a lock. Raises DependencyProblem."""
    shown = without_credentials(address)
    if not _WEB.match(address):
        raise DependencyProblem(
            f"the repository {shown[:200]!r} is no address",
            place=Evidence(MANIFEST),
            remedy="Name it with its scheme (https://…, ssh://…, git@host:path); for a folder of the clone use the "
            "type path.",
        )
    rows = []
    for revision in file_in_history(address, MANIFEST, variables, Evidence(MANIFEST)):
        try:
            document = json_object(revision.text, f"{shown} at {revision.name}: {MANIFEST}")
        except BadInput:
            continue  # that revision is no package; the others may be
        version = _version(revision, document)
        if version:
            source = {"type": "git", "url": address, "reference": revision.commit}
            rows.append({**document, "version": version, "source": source})
    return rows


def _version(revision: Revision, document: Mapping[str, Any]) -> str:
    """The version that a tag or branch is, "" for none: a tag whose manifest names another one counts for
    nothing."""
    if not revision.is_tag:
        if _NUMERIC.fullmatch(revision.name):
            plain = revision.name.removeprefix("v").removesuffix(".x")
            return f"{plain}.x-dev"
        return f"dev-{revision.name}"
    try:
        normal = normalized(revision.name)
        stated = document.get("version")
        if normal.startswith("dev-") or (isinstance(stated, str) and normalized(stated) != normal):
            return ""
    except ValueError:
        return ""
    return revision.name


def rows_of_archives(part: Path, folder: str) -> Iterator[dict[str, Any]]:
    """The packages whose archives lie in a folder of the part, as entries of a lock. Raises DependencyProblem for
    a folder outside of it."""
    place = part / folder
    if not place.resolve().is_relative_to(part.resolve()):
        raise DependencyProblem(
            f"the folder of archives {folder[:200]!r} is outside the part",
            place=Evidence(MANIFEST),
            remedy="Put it into the clone, or take the repository out.",
        )
    for file in sorted(place.rglob("*.zip"))[:_MOST_ARCHIVES]:
        inner = file.relative_to(part)
        if not file.is_file() or not file.resolve().is_relative_to(part.resolve()):
            continue
        if file.stat().st_size > LIMITS.in_memory:
            continue
        data = plain_bytes(file)
        document = _manifest_in(data, inner.as_posix())
        if document is not None and isinstance(document.get("version"), str):
            digest = hashlib.sha1(data, usedforsecurity=False).hexdigest()
            dist = {"type": "zip", "url": inner.as_posix(), "reference": digest, "shasum": digest}
            yield {**document, "dist": dist}


def _manifest_in(data: bytes, path: str) -> dict[str, Any] | None:
    """The manifest at the top of an archive, or in the one folder that is wrapped around; None where there is
    none that can be read."""
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            names = [one for one in archive.namelist() if one.rpartition("/")[2] == MANIFEST]
            best = min(names, key=lambda one: one.count("/"), default="")
            if not best or best.count("/") > 1 or archive.getinfo(best).file_size > 1 << 20:
                return None
            return json_object(archive.read(best).decode("utf-8", "replace"), f"{path}: {best}")
    except (zipfile.BadZipFile, BadInput, OSError, NotImplementedError, RuntimeError):
        return None  # not a package; the store says so should a lock name it
