"""``yarn.lock``: the classic form, and the newer one, which is YAML."""

from __future__ import annotations

import base64
import posixpath
import re
from collections.abc import Iterator, Mapping
from typing import Any
from urllib.parse import unquote

from msgspec.structs import replace

from plainfall.ecosystems.node.install.repositories import repository_source
from plainfall.ecosystems.node.lists.locks.package import LockRead
from plainfall.ecosystems.node.resolve.graph import GraphPackage, hoisted
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex
from plainfall.reading import yaml_value

__all__ = ["read_yarn_lock"]

_KEY = regex(r"^(\s*)(\"[^\"]+\"|[^\s:\"]+)(?::$|\s+(.*)$)")
_DESCRIPTOR = regex(r"^(@?[^@]+)@(.*)$")


def read_yarn_lock(
    text: str, path: str, manifest: Mapping[str, Any], workspaces: Mapping[str, Mapping[str, Any]]
) -> LockRead:
    """Reads a lock; ``workspaces`` are the manifests of the clone's workspaces by folder. Raises BadInput."""
    if re.search(r"^__metadata:", text, re.MULTILINE):
        return _newer(text, path, manifest, workspaces)
    entries = list(_classic_entries(text, path))
    graph: dict[str, GraphPackage] = {}
    chosen: dict[str, str] = {}
    for line, descriptors, values in entries:
        name = _named(descriptors[0], path, line)[0]
        version, address = str(values.get("version", "")), str(values.get("resolved", ""))
        if not version:
            raise BadInput(
                f"{descriptors[0]} has no version", place=Evidence(path, line), remedy="Restore the lock."
            )
        real = re.match(r"^npm:(@?[^@]+)@", _named(descriptors[0], path, line)[1])
        integrity = str(values.get("integrity", ""))
        repository = repository_source(address) is not None
        digest = None if repository else re.search(r"#([0-9a-f]{40})$", address)
        if not integrity and digest:
            integrity = "sha1-" + base64.b64encode(bytes.fromhex(digest.group(1))).decode()
        key = f"{real.group(1) if real else name}@{version}"
        for descriptor in descriptors:
            chosen[descriptor] = key
        graph[key] = GraphPackage(
            real.group(1) if real else name,
            version,
            address if repository else address.partition("#")[0],
            integrity,
            {**values.get("dependencies", {}), **values.get("optionalDependencies", {})},
            frozenset(values.get("optionalDependencies", {})),
        )
    entire = {
        key: _with_keys(one, {n: chosen.get(f"{n}@{wish}", "") for n, wish in one.needs.items()})
        for key, one in graph.items()
    }
    read = _laid_out(entire, chosen, manifest, workspaces, path, lambda name, wish: f"{name}@{wish}")
    return replace(read, knows_peers=False, knows_systems=False)


def _with_keys(one: GraphPackage, needs: Mapping[str, str]) -> GraphPackage:
    return replace(one, needs={name: key for name, key in needs.items() if key})


def _named(descriptor: str, path: str, line: int) -> tuple[str, str]:
    match = _DESCRIPTOR.match(descriptor)
    if not match:
        raise BadInput(
            f"{descriptor!r} is no NAME@RANGE", place=Evidence(path, line), remedy="Restore the lock."
        )
    return match.group(1), match.group(2)


def _classic_entries(text: str, path: str) -> Iterator[tuple[int, list[str], dict[str, Any]]]:
    """(line, descriptors, values) of each entry."""
    current: tuple[int, list[str], dict[str, Any]] | None = None
    table: dict[str, str] | None = None
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip() or line.lstrip().startswith("#"):
            continue
        depth = len(line) - len(line.lstrip())
        if depth == 0:
            if not line.endswith(":"):
                raise BadInput(
                    f"{line[:60]!r} begins no entry",
                    place=Evidence(path, number),
                    remedy="Restore the lock from version control; a merge may have left its marks in it.",
                )
            if current:
                yield current
            current = number, [one.strip().strip('"') for one in line[:-1].split(", ")], {}
            table = None
            continue
        match = _KEY.match(line)
        if not match or current is None:
            raise BadInput(
                f"{line.strip()[:60]!r} is no value", place=Evidence(path, number), remedy="Restore the lock."
            )
        key, value = match.group(2).strip('"'), match.group(3)
        if value is None:
            table = current[2].setdefault(key, {})
        elif depth >= 4 and table is not None:
            table[key] = value.strip().strip('"')
        else:
            current[2][key] = value.strip().strip('"')
            table = None
    if current:
        yield current


def _newer(
    text: str, path: str, manifest: Mapping[str, Any], workspaces: Mapping[str, Mapping[str, Any]]
) -> LockRead:
    document = yaml_value(text, path, "Restore the lock.")
    graph: dict[str, GraphPackage] = {}
    chosen: dict[str, str] = {}
    for descriptors, entry in document.items() if isinstance(document, dict) else ():
        if descriptors == "__metadata" or not isinstance(entry, dict):
            continue
        name, source = _named(str(entry.get("resolution", "")), path, 0)
        key = str(entry["resolution"])
        for descriptor in str(descriptors).split(", "):
            chosen[descriptor] = key
        if source.startswith("workspace:"):
            folder = source.removeprefix("workspace:")
            if folder != ".":
                graph[key] = GraphPackage(name, "", link=folder)
            continue
        patches: tuple[str, ...] = ()
        if source.startswith("patch:"):
            source, patches = _patched(source, path)
        conditions = str(entry.get("conditions", ""))
        metadata = entry.get("dependenciesMeta") or {}
        graph[key] = GraphPackage(
            name,
            str(entry.get("version", "")),
            "" if source.startswith("npm:") else source,
            "",
            {str(n): f"{n}@{wish}" for n, wish in (entry.get("dependencies") or {}).items()},
            frozenset(
                n for n, about in metadata.items() if isinstance(about, dict) and about.get("optional")
            ),
            tuple(re.findall(r"os=(\w+)", conditions)),
            tuple(re.findall(r"cpu=(\w+)", conditions)),
            tuple(re.findall(r"libc=(\w+)", conditions)),
            patches=patches,
        )
    entire = {key: _with_keys(one, _resolved(one.needs, chosen)) for key, one in graph.items()}
    read = _laid_out(
        entire, chosen, manifest, workspaces, path, lambda name, wish: _protocol(name, wish, chosen)
    )
    remarks = list(read.remarks)
    remarks.append("this form of lock holds no hash of the archives, so none could be checked")
    return LockRead(read.packages, tuple(remarks), knows_peers=False)


def _patched(source: str, path: str) -> tuple[str, tuple[str, ...]]:
    """What is patched, and the clone's patch files, from the part; those that a package manager brings along
    are its own workings around its layout, and are skipped."""
    inner, _, rest = source.removeprefix("patch:").partition("#")
    files, _, binding = rest.partition("::")
    locator = re.search(r"locator=([^&]+)", binding)
    folder = unquote(locator.group(1)).rpartition("workspace:")[2] if locator else "."
    patches = []
    for word in files.split("&"):
        file = unquote(word.removeprefix("optional!"))
        if file and not re.match(r"~?builtin<", file):
            from_top = file.startswith("~/")
            patches.append(posixpath.normpath(file[2:] if from_top else posixpath.join(folder, file)))
    return _named(unquote(inner), path, 0)[1], tuple(patches)


def _resolved(needs: Mapping[str, str], chosen: Mapping[str, str]) -> dict[str, str]:
    return {name: chosen.get(wish) or chosen.get(_with_npm(wish), "") for name, wish in needs.items()}


def _with_npm(descriptor: str) -> str:
    match = _DESCRIPTOR.match(descriptor)
    return f"{match.group(1)}@npm:{match.group(2)}" if match else descriptor


def _protocol(name: str, wish: str, chosen: Mapping[str, str]) -> str:
    plain = f"{name}@{wish}"
    return plain if plain in chosen else f"{name}@npm:{wish}"


def _laid_out(
    graph: Mapping[str, GraphPackage],
    chosen: Mapping[str, str],
    manifest: Mapping[str, Any],
    workspaces: Mapping[str, Mapping[str, Any]],
    path: str,
    descriptor: Any,
) -> LockRead:
    roots: dict[str, dict[str, str]] = {}
    links = {str(one.get("name")): folder for folder, one in workspaces.items() if one.get("name")}
    entire = {
        **graph,
        **{f"workspace {name}": GraphPackage(name, "", link=folder) for name, folder in links.items()},
    }
    remarks = []
    optional = frozenset(manifest.get("optionalDependencies") or {})
    for folder, document in {"": manifest, **workspaces}.items():
        wishes: dict[str, str] = {}
        for table in ("dependencies", "devDependencies", "optionalDependencies"):
            for name, wish in (document.get(table) or {}).items():
                key = chosen.get(descriptor(name, wish))
                if name in links and (key is None or str(wish).startswith("workspace:")):
                    wishes[name] = f"workspace {name}"
                elif key is None:
                    remarks.append(f"package.json asks for {name} {wish}, which {path} lacks; it is left out")
                else:
                    wishes[name] = key
        roots[folder] = wishes
    if links:
        roots[""] = {**{name: f"workspace {name}" for name in links}, **roots[""]}
    return LockRead(hoisted(entire, roots, optional), tuple(remarks))
