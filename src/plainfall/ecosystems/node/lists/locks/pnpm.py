"""``pnpm-lock.yaml``: formats 5, 6 and 9. Laid out nested and hoisted, as the runtime looks packages up."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping
from typing import Any

from plainfall.ecosystems.node.lists.locks.package import LockRead
from plainfall.ecosystems.node.resolve.graph import GraphPackage, hoisted
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex
from plainfall.reading import yaml_value

__all__ = ["read_pnpm_lock"]


def read_pnpm_lock(text: str, path: str, patched: Mapping[str, str]) -> LockRead:
    """Reads a lock; ``patched`` are the patch files that the manifest names, by package. Raises BadInput for
    what is no lock of these formats."""
    document = yaml_value(text, path, "Restore the lock.")
    version = str(document.get("lockfileVersion", "")) if isinstance(document, dict) else ""
    if re.match(r"5(\.|$)", version):
        document = _in_format_6(document)
    elif not re.match(r"(6|9)(\.|$)", version):
        raise BadInput(
            f"lock format {version or 'without a number'} is not known to this version of Plainfall, which "
            "reads 5, 6 and 9",
            place=Evidence(path, 1),
            remedy="Use a newer Plainfall, or a lock in one of these formats.",
        )
    packages = document.get("packages") or {}
    snapshots = document.get("snapshots") or packages
    graph: dict[str, GraphPackage] = {}
    patches = {**patched, **_patches(document.get("patchedDependencies"))}
    for key, entry in snapshots.items():
        plain = _plain(str(key))
        about = packages.get(key) or packages.get(plain) or packages.get(f"/{plain}") or {}
        name, _, number = plain.rpartition("@")
        resolution = about.get("resolution") or {}
        optional = {str(n): str(v) for n, v in ((entry or {}).get("optionalDependencies") or {}).items()}
        needs = {str(n): str(v) for n, v in ((entry or {}).get("dependencies") or {}).items()}
        name, number = str(about.get("name") or name), str(about.get("version") or number)
        patch = patches.get(f"{name}@{number}") or patches.get(name)
        graph[_bare(str(key))] = GraphPackage(
            name,
            number,
            _address(resolution),
            str(resolution.get("integrity") or ""),
            {n: _key(n, v, snapshots) for n, v in {**needs, **optional}.items()},
            frozenset(optional),
            tuple(about.get("os") or ()),
            tuple(about.get("cpu") or ()),
            tuple(about.get("libc") or ()),
            patches=(patch,) if patch else (),
        )
    importers = document.get("importers") or {".": document}
    roots: dict[str, dict[str, str]] = {}
    optional_names: set[str] = set()
    for folder, importer in importers.items():
        wishes: dict[str, str] = {}
        for table in ("dependencies", "devDependencies", "optionalDependencies"):
            for name, value in (importer.get(table) or {}).items():
                number = str(value.get("version")) if isinstance(value, dict) else str(value)
                if number.startswith("link:"):
                    target = _joined("" if folder == "." else folder, number.removeprefix("link:"))
                    graph[f"link {target}"] = GraphPackage(name, "", link=target)
                    wishes[name] = f"link {target}"
                else:
                    wishes[name] = _key(name, number, snapshots)
                if table == "optionalDependencies" and folder == ".":
                    optional_names.add(name)
        roots["" if folder == "." else folder] = wishes
    return LockRead(hoisted(graph, roots, frozenset(optional_names)))


# A key of format 5: ``/name/1.0.0``, and what follows of peers.
_KEY_5 = regex(r"/(?P<name>(?:@[^/]+/)?[^/@][^/]*)/(?P<version>[^/_]+)(?:[_/](?P<peers>.+))?")


def _in_format_6(document: Mapping[str, Any]) -> dict[str, Any]:
    """A lock of format 5 as format 6 writes it: ``/name/1.0.0_peers`` is ``/name@1.0.0(peers)`` there."""
    packages = {
        _key_in_6(str(key)): {**entry, **_tables_in_6(entry)}
        for key, entry in (document.get("packages") or {}).items()
        if isinstance(entry, dict)
    }
    importers = {
        str(folder): _tables_in_6(importer)
        for folder, importer in (document.get("importers") or {".": document}).items()
        if isinstance(importer, dict)
    }
    return {**document, "packages": packages, "importers": importers}


def _tables_in_6(entry: Mapping[str, Any]) -> dict[str, Any]:
    tables = ("dependencies", "devDependencies", "optionalDependencies")
    return {
        table: {str(name): _version_in_6(str(value)) for name, value in entry[table].items()}
        for table in tables
        if isinstance(entry.get(table), dict)
    }


def _key_in_6(key: str) -> str:
    """A package's key; one of an address (``github.com/…``) has the same form in both.

    >>> _key_in_6("/@rain/kit/1.0.0_gauge@2.0.0"), _key_in_6("/gauge/2.0.0")
    ('/@rain/kit@1.0.0(gauge@2.0.0)', '/gauge@2.0.0')
    """
    match = _KEY_5.fullmatch(key)
    if match is None:
        return key
    peers = f"({match['peers']})" if match["peers"] else ""
    return f"/{match['name']}@{match['version']}{peers}"


def _version_in_6(value: str) -> str:
    if value.startswith("/"):
        return _key_in_6(value)
    version, joined, peers = value.partition("_")
    return f"{version}({peers})" if joined and version[:1].isdigit() else value


def _joined(folder: str, inner: str) -> str:
    import posixpath

    return posixpath.normpath(posixpath.join(folder, inner))


def _bare(key: str) -> str:
    return key.removeprefix("/")


def _plain(key: str) -> str:
    """A key without what it says of peers."""
    return _bare(key).partition("(")[0]


def _key(name: str, value: str, known: Collection[str]) -> str:
    """The key of a dependency: its version, or for an alias and for what comes from elsewhere than a registry
    the whole key of a package."""
    plain = value.partition("(")[0]
    joined = f"{name}@{value}"
    if joined in known or f"/{joined}" in known:
        return joined
    entire = "@" in plain.lstrip("/")[1:] or value.startswith("/") or value in known
    return _bare(value) if entire else joined


def _address(resolution: Mapping[str, Any]) -> str:
    """Where a package comes from, if not from a registry: an archive's address, or a repository's."""
    if resolution.get("repo"):
        inner = f"&path:{resolution['path']}" if resolution.get("path") else ""
        return f"git+{resolution['repo']}#{resolution.get('commit', '')}{inner}"
    return str(resolution.get("tarball") or "")


def _patches(value: Any) -> dict[str, str]:
    """Patch files by package, where the lock itself names them."""
    pairs = value.items() if isinstance(value, dict) else ()
    return {
        str(name): str(about["path"]) for name, about in pairs if isinstance(about, dict) and "path" in about
    }
