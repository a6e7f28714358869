"""Which dependency list of a Node part counts, and what it comes to."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from plainfall.ecosystems.node.asks import manifest
from plainfall.ecosystems.node.locks.package import LockRead
from plainfall.ecosystems.node.locks.package_lock import read_package_lock
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.survey.parts import DependencyFile
from plainfall.survey.walk import Tree

__all__ = ["dependency_file", "read_lock"]

# The first that is there counts: a shrinkwrap is published with the package and stands over the lock.
_LOCKS = ("npm-shrinkwrap.json", "package-lock.json")
_UNREAD = ("yarn.lock", "pnpm-lock.yaml", "bun.lock", "bun.lockb")


def dependency_file(tree: Tree, folder: str) -> DependencyFile | None:
    """The list that counts: a lock, else the manifest if it lists anything; None if there is neither."""
    document = manifest(tree, folder)
    place = f"{folder}/" if folder else ""
    names = tuple(_asked(document))
    locks = [name for name in _LOCKS if place + name in tree]
    others = tuple(place + name for name in (*locks[1:], *_UNREAD) if place + name in tree)
    if locks:
        path = place + locks[0]
        read = read_lock(tree, path, document)
        reason = "the shrinkwrap, which stands over other locks" if locks[0] == _LOCKS[0] else "the lock file"
        return DependencyFile(
            path,
            "package-lock",
            reason,
            sum(1 for one in read.packages if one.link is None),
            Evidence(path, 1),
            files=(path, f"{place}package.json"),
            others=others,
            names=names,
        )
    if not names:
        return None
    unread = next((name for name in _UNREAD if place + name in tree), None)
    return DependencyFile(
        f"{place}package.json",
        "unlocked",
        f"{unread} is of a kind that this version does not read"
        if unread
        else "the manifest, without a lock",
        len(names),
        tree.line_of(f"{place}package.json", "ependencies"),
        files=(f"{place}package.json",),
        others=others,
        names=names,
    )


def _asked(document: dict[str, Any]) -> Iterator[str]:
    seen = set()
    for table in ("dependencies", "devDependencies", "optionalDependencies"):
        held = document.get(table)
        for name in held if isinstance(held, dict) else ():
            if name not in seen:
                seen.add(name)
                yield name


def read_lock(tree: Tree, path: str, document: dict[str, Any]) -> LockRead:
    """Reads a lock of a kind in ``_LOCKS``. Raises BadInput; a lock of over 2 MiB is read, too."""
    file = tree.root / path
    try:
        text = file.read_text("utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        raise BadInput(f"it cannot be read: {error}", place=Evidence(path)) from error
    return read_package_lock(text, path, document)
