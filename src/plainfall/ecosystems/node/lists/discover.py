"""Chooses a Node part's dependency list and reads it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from plainfall.clone.parts import DependencyFile
from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.lists.locks.package import LockRead
from plainfall.ecosystems.node.lists.locks.package_lock import read_package_lock
from plainfall.ecosystems.node.recognise.servers import listed_names
from plainfall.ecosystems.node.recognise.workspaces import owner_of, workspace_file, workspaces
from plainfall.ecosystems.node.runtime.asks import manifest
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.reading import clone_text, json_object, of_its_form

_LARGEST = 64 * 1024**2  # bytes of a lock

__all__ = ["folders_to", "COMPONENTS", "dependency_file", "disagreements", "read_lock"]

COMPONENTS = "bower.json"

# In this order, but for the one that the manifest's own ``packageManager`` entry speaks for: a shrinkwrap is
# published with the package and stands over the lock.
_LOCKS = {
    "npm-shrinkwrap.json": "package-lock",
    "package-lock.json": "package-lock",
    "pnpm-lock.yaml": "pnpm",
    "yarn.lock": "yarn",
}
_OF_ENTRY = {"npm": "package-lock.json", "pnpm": "pnpm-lock.yaml", "yarn": "yarn.lock"}
_UNREAD = ("bun.lock", "bun.lockb")
_REASONS = {
    "npm-shrinkwrap.json": "the shrinkwrap, which stands over other locks",
    "package-lock.json": "the lock file",
    "pnpm-lock.yaml": "the lock file",
    "yarn.lock": "the lock file",
}


def dependency_file(tree: Tree, folder: str) -> DependencyFile | None:
    """The list that counts: a lock, else the manifest if it lists anything; None if there is neither."""
    owner = owner_of(tree, folder)
    if owner is not None and owner[1]:
        return _of_workspace(tree, folder, owner[0])
    document = manifest(tree, folder)
    place = f"{folder}/" if folder else ""
    members = workspaces(tree.root / folder, document)
    names = tuple(dict.fromkeys(name for one in (document, *members.values()) for name in _asked(one)))
    inner = tuple(f"{place}{member}/package.json" for member in members)
    inner += tuple(place + name for name in (COMPONENTS, ".bowerrc") if place + name in tree)
    entry = str(document.get("packageManager") or "").partition("@")[0]
    preferred = _OF_ENTRY.get(entry)
    locks = sorted((name for name in _LOCKS if place + name in tree), key=lambda name: name != preferred)
    others = tuple(place + name for name in (*locks[1:], *_UNREAD) if place + name in tree)
    if locks:
        path = place + locks[0]
        read = read_lock(tree.root, path, document)
        reason = _REASONS[locks[0]]
        if len(locks) > 1 and locks[0] == preferred:
            reason = f"the lock file that packageManager ({entry}) speaks for"
        return DependencyFile(
            path,
            _LOCKS[locks[0]],
            reason,
            sum(1 for one in read.packages if one.link is None),
            Evidence(path, 1),
            files=(path, f"{place}package.json", *inner, *_patch_files(tree, folder, read)),
            others=others,
            names=names,
        )
    if not names:
        return _components(tree, folder)
    unread = next((name for name in _UNREAD if place + name in tree), None)
    reason = f"{unread} is of a kind that is not read; " if unread else ""
    return DependencyFile(
        f"{place}package.json",
        "unlocked",
        f"{reason}the manifest, without a lock: versions are resolved",
        len(names),
        _first_of(tree, f"{place}package.json"),
        files=(f"{place}package.json", *inner),
        others=others,
        names=names,
    )


def _components(tree: Tree, folder: str) -> DependencyFile | None:
    """A list of browser components where there is nothing else."""
    path = f"{folder}/{COMPONENTS}" if folder else COMPONENTS
    if path not in tree:
        return None
    names = tuple(_asked(json_object(tree.text(path), path)))
    place = Evidence(path, 1)
    return DependencyFile(path, "components", "a list of browser components", len(names), place, (path,))


def _first_of(tree: Tree, path: str) -> Evidence:
    result = tree.line_of(path, "ependencies")
    return result if result.line else Evidence(path, 1)


def _of_workspace(tree: Tree, folder: str, owner: str) -> DependencyFile:
    """A workspace lists what it needs; the part above installs it."""
    path = f"{folder}/package.json"
    names = tuple(dict.fromkeys(listed_names(tree, folder) + listed_names(tree, owner)))
    above = dependency_file(tree, owner)
    files = (path, *(above.files if above else ()))
    reason = f"the workspaces of {owner or 'the top'}"
    return DependencyFile(path, "workspace", reason, len(names), Evidence(path, 1), files=files, names=names)


def _patch_files(tree: Tree, folder: str, read: LockRead) -> Iterator[str]:
    """Patches that the lock names, and those that a script of the clone puts on."""
    place = f"{folder}/" if folder else ""
    named = {f"{place}{patch}" for one in read.packages for patch in one.patches}
    named |= {path for path in tree.files if path.startswith(f"{place}patches/") and path.endswith(".patch")}
    yield from sorted(path for path in named if path in tree)


def _asked(document: Mapping[str, Any]) -> Iterator[str]:
    seen = set()
    for table in ("dependencies", "devDependencies", "optionalDependencies"):
        value = document.get(table)
        for name in value if isinstance(value, dict) else ():
            if name not in seen:
                seen.add(name)
                yield name


def read_lock(root: Path, path: str, document: Mapping[str, Any]) -> LockRead:
    """Reads a lock of any kind that is known. Raises BadInput; a lock may be larger than other files."""
    text = clone_text(root, path, _LARGEST)
    kind = _LOCKS[path.rpartition("/")[2]]
    with of_its_form(path, "lock of this format"):
        return _read_lock(root, path, kind, text, document)


def _read_lock(root: Path, path: str, kind: str, text: str, document: Mapping[str, Any]) -> LockRead:
    if kind == "pnpm":
        from plainfall.ecosystems.node.lists.locks.pnpm import read_pnpm_lock

        return read_pnpm_lock(text, path, _patched((root / path).parent, document))
    if kind == "yarn":
        from plainfall.ecosystems.node.lists.locks.yarn import read_yarn_lock

        return read_yarn_lock(text, path, document, workspaces((root / path).parent, document))
    return read_package_lock(text, path, document)


def _patched(part: Path, document: Mapping[str, Any]) -> dict[str, str]:
    """Patch files by package, as the manifest or ``pnpm-workspace.yaml`` names them."""
    own = document.get("pnpm")
    value = own.get("patchedDependencies") if isinstance(own, dict) else None
    value = value or workspace_file(part).get("patchedDependencies")
    return {str(name): str(path) for name, path in value.items()} if isinstance(value, dict) else {}


def disagreements(
    root: Path, listed: DependencyFile, read: LockRead, document: Mapping[str, Any]
) -> list[str]:
    """Versions of the part's own wishes in which another lock differs from the one that counts."""
    remarks = []
    mine = {one.place: one.version for one in read.packages}
    for path in listed.others:
        if path.rpartition("/")[2] not in _LOCKS:
            continue
        try:
            other = {one.place: one.version for one in read_lock(root, path, document).packages}
        except BadInput as error:
            remarks.append(f"{path} is not used and cannot be read: {error.cause}")
            continue
        places = [f"node_modules/{name}" for name in listed.names]
        apart = [
            f"{place.removeprefix('node_modules/')} {other[place]} (taken: {mine[place]})"
            for place in places
            if place in other and place in mine and other[place] != mine[place]
        ]
        if apart:
            more = f" and {len(apart) - 4} more" if len(apart) > 4 else ""
            remarks.append(f"{path} disagrees with {listed.path}: {', '.join(apart[:4])}{more}")
    return remarks


def folders_to(clone: Path, folder: Path) -> list[Path]:
    """The folders from a part's up to the clone's."""
    above = (one for one in folder.parents if one.is_relative_to(clone))
    return list(dict.fromkeys([folder, *above]))
