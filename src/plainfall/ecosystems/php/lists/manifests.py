"""``composer.json`` and ``composer.lock`` as values.

The lock's packages are entries of the manifest's own schema with a ``dist`` and a ``source``; see the package
format's published schema. Generations of the lock differ in ``plugin-api-version`` and in what they leave out.
"""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Iterator, Mapping
from functools import lru_cache
from pathlib import Path
from typing import Any

from msgspec import Struct

from plainfall.clone.walk import Tree
from plainfall.ecosystems.php.resolve.versions import constraint, normalized
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex
from plainfall.reading import clone_text, json_object

__all__ = [
    "LOCK",
    "MANIFEST",
    "Lock",
    "Locked",
    "config_of",
    "fingerprint",
    "is_platform",
    "manifest",
    "mapping",
    "mismatches",
    "package_name",
    "read_lock",
    "strings",
]

MANIFEST = "composer.json"
LOCK = "composer.lock"
_LARGEST = 64 * 1024**2  # bytes of a lock
_NAME = regex(r"[a-z0-9]+(?:[_.-][a-z0-9]+)*/[a-z0-9]+(?:(?:[_.]|--?)[a-z0-9]+)*", re.IGNORECASE)
_PLATFORM = regex(r"php(-\w+)?|hhvm|(ext|lib)-[\w.-]+|composer(-(plugin|runtime)-api)?", re.IGNORECASE)
# What the fingerprint of a manifest is taken of.
_OF_FINGERPRINT = (
    "name", "version", "require", "require-dev", "conflict", "replace", "provide", "minimum-stability",
    "prefer-stable", "repositories", "extra",
)  # fmt: skip


def manifest(tree: Tree, folder: str) -> dict[str, Any]:
    """The folder's manifest, empty if it has none. Raises BadInput with the line."""
    path = f"{folder}/{MANIFEST}" if folder else MANIFEST
    return json_object(tree.text(path), path) if path in tree else {}


def mapping(value: object) -> dict[str, Any]:
    """A JSON object, empty for anything else (an empty one is often written as a list)."""
    return {str(key): one for key, one in value.items()} if isinstance(value, dict) else {}


def strings(value: object) -> list[str]:
    """The texts of a list, or a single one as a list."""
    if isinstance(value, str):
        return [value]
    return [one for one in value if isinstance(one, str)] if isinstance(value, list) else []


def config_of(document: Mapping[str, Any], key: str, default: Any) -> Any:
    """A value of the manifest's ``config``, the default for one of another type."""
    value = mapping(document.get("config")).get(key, default)
    return value if isinstance(value, type(default)) else default


def is_platform(name: str) -> bool:
    """Whether a requirement is one of the machine: the runtime, an extension, a library, the client's interface."""
    return (
        re.fullmatch(r"php(-\w+)?|hhvm|(ext|lib)-[\w.-]+|composer(-(plugin|runtime)-api)?", name, re.I)
        is not None
    )


def package_name(name: str, place: Evidence) -> str:
    """The name of a package, which becomes a folder's. Raises BadInput for one that is none."""
    if not _NAME.fullmatch(name) or len(name) > 200:
        raise BadInput(
            f"{name[:100]!r} is no name of a package",
            place=place,
            remedy="A name is written VENDOR/NAME, in letters, digits, dots, hyphens and underscores.",
        )
    return name


class Locked(Struct, frozen=True):
    """One package of a lock: its name as written, the version as written and in its normal form, whether only
    development needs it, and its entry whole."""

    name: str
    version: str
    normal: str
    is_dev: bool
    entry: Mapping[str, Any]

    @property
    def label(self) -> str:
        """Name and version."""
        return f"{self.name} {self.version}"

    @property
    def kind(self) -> str:
        """The package's type; most are "library"."""
        return str(self.entry.get("type") or "library")

    @property
    def is_meta(self) -> bool:
        """Whether it has no files of its own."""
        return self.kind == "metapackage"

    @property
    def requires(self) -> dict[str, str]:
        """What it needs: name → constraint."""
        return {name: str(one) for name, one in mapping(self.entry.get("require")).items()}

    @property
    def dist(self) -> dict[str, Any]:
        """Where its archive is."""
        return mapping(self.entry.get("dist"))

    @property
    def source(self) -> dict[str, Any]:
        """Where its repository is."""
        return mapping(self.entry.get("source"))

    @property
    def autoload(self) -> dict[str, Any]:
        """How its classes are found."""
        return mapping(self.entry.get("autoload"))

    @property
    def stands_for(self) -> dict[str, str]:
        """The names that it replaces or provides, and the constraints of the versions that it does so in."""
        found = {}
        for table in ("replace", "provide"):
            for name, wanted in mapping(self.entry.get(table)).items():
                found[name.lower()] = self.normal if str(wanted) == "self.version" else str(wanted)
        return found


class Lock(Struct, frozen=True):
    """A lock: its packages in their order, the manifest's fingerprint, what it asks of the machine (name →
    constraint), the versions that were pretended, and aliases (name → normal version → alias)."""

    path: str
    packages: tuple[Locked, ...]
    fingerprint: str
    platform: Mapping[str, str]
    pretended: Mapping[str, str]
    aliases: tuple[Mapping[str, Any], ...] = ()
    generation: str = ""


def read_lock(root: Path, path: str) -> Lock:
    """Reads a lock. Raises BadInput with the line; a lock may be larger than other files."""
    return _lock_of(clone_text(root, path, _LARGEST), path)


@lru_cache(4)  # several questions of one run are answered from the same lock
def _lock_of(text: str, path: str) -> Lock:
    document = json_object(text, path)
    if not isinstance(document.get("packages"), list):
        raise BadInput(
            "it has no list of packages",
            place=Evidence(path, 1),
            remedy="Restore the lock from version control, or take it away: then versions are to be chosen anew.",
        )
    packages = tuple(_packages(document, path, text))
    seen: dict[str, Locked] = {}
    for one in packages:
        other = seen.setdefault(one.name.lower(), one)
        if other is not one:
            raise BadInput(
                f"{one.name} stands in it twice, as {other.version} and {one.version}",
                place=_line(path, text, one.name),
                remedy="Often a merge did that: restore the lock, and write it again with its tool.",
            )
    platform = {**mapping(document.get("platform")), **mapping(document.get("platform-dev"))}
    aliases = document.get("aliases")
    named = tuple(mapping(one) for one in aliases) if isinstance(aliases, list) else ()
    return Lock(
        path,
        packages,
        str(document.get("content-hash") or document.get("hash") or ""),
        {name.lower(): str(wanted) for name, wanted in platform.items()},
        {name: str(one) for name, one in mapping(document.get("platform-overrides")).items()},
        named,
        str(document.get("plugin-api-version") or ""),
    )


def _packages(document: Mapping[str, Any], path: str, text: str) -> Iterator[Locked]:
    for table in ("packages", "packages-dev"):
        rows = document.get(table) or []
        for row in rows if isinstance(rows, list) else ():
            entry = mapping(row)
            name, version = str(entry.get("name", "")), str(entry.get("version", ""))
            package_name(name, _line(path, text, name))
            try:
                normal = normalized(str(entry.get("version_normalized") or version))
            except ValueError:
                raise BadInput(
                    f"{version[:60]!r} is no version of {name}",
                    place=_line(path, text, name),
                    remedy="Restore the lock from version control.",
                ) from None
            yield Locked(name, version, normal, table == "packages-dev", entry)


def _line(path: str, text: str, name: str) -> Evidence:
    place = text.find(json.dumps(name)) if name else -1
    return Evidence(path, text.count("\n", 0, place) + 1 if place >= 0 else 1)


def fingerprint(document: Mapping[str, Any]) -> str:
    """What a lock made for this manifest states as ``content-hash``: the MD5 of the JSON, as PHP writes it, of
    the entries that decide about versions."""
    relevant: dict[str, Any] = {key: document[key] for key in _OF_FINGERPRINT if key in document}
    platform = mapping(document.get("config")).get("platform")
    if platform is not None:
        relevant["config"] = {"platform": platform}
    text = json.dumps(_as_php(dict(sorted(relevant.items()))), separators=(",", ":"), ensure_ascii=True)
    return hashlib.md5(text.replace("/", "\\/").encode(), usedforsecurity=False).hexdigest()


def _as_php(value: Any) -> Any:
    """An empty object is an empty array there."""
    if isinstance(value, dict):
        return {key: _as_php(one) for key, one in value.items()} or []
    return [_as_php(one) for one in value] if isinstance(value, list) else value


def mismatches(document: Mapping[str, Any], lock: Lock) -> list[str]:
    """What the manifest asks for and the lock does not meet, in words; nothing where the lock fits."""
    versions = {one.name.lower(): one for one in lock.packages}
    found = []
    for table in ("require", "require-dev"):
        for name, wanted in mapping(document.get(table)).items():
            if is_platform(name):
                continue
            text = str(wanted)
            locked = versions.get(name.lower())
            if locked is None:
                if not any(name.lower() in other.stands_for for other in lock.packages):
                    found.append(f"{name} is not in it")
                continue
            try:
                rule = constraint(text)
            except ValueError:
                found.append(f"{name}: {text!r} is no version constraint")
                continue
            if text != "self.version" and not any(rule.admits(normal) for normal in _versions(locked, lock)):
                found.append(f"{name} is {locked.version} in it, and {text} is asked for")
    return found


def _versions(package: Locked, lock: Lock) -> Iterator[str]:
    """The versions that a locked package counts as: its own, and its aliases."""
    yield package.normal
    for alias in lock.aliases:
        if str(alias.get("package", "")).lower() == package.name.lower():
            yield str(alias.get("alias_normalized") or alias.get("alias") or "")
    branches = mapping(mapping(package.entry.get("extra")).get("branch-alias"))
    written = branches.get(package.version)
    if isinstance(written, str):
        try:
            yield normalized(written)
        except ValueError:
            return
