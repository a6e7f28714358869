"""Chooses a PHP part's dependency list."""

from __future__ import annotations

from plainfall.clone.parts import DependencyFile
from plainfall.clone.walk import Tree
from plainfall.ecosystems.php.install.places import vendor_folder
from plainfall.ecosystems.php.lists.manifests import LOCK, MANIFEST, is_platform, manifest, mapping, read_lock
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.plain_files import plain_text
from plainfall.repository import repository_of

__all__ = ["dependency_file"]


def dependency_file(tree: Tree, folder: str) -> DependencyFile | None:
    """The list that counts: packages that the repository itself holds, the lock, else the manifest if it lists
    anything; None if there is neither."""
    document = manifest(tree, folder)
    place = f"{folder}/" if folder else ""
    if not document:
        return None
    path = place + MANIFEST
    asked = [
        name.lower()
        for table in ("require", "require-dev")
        for name in mapping(document.get(table))
        if not is_platform(name)
    ]
    held = _held(tree, folder)
    if held:
        count = len(asked)
        reason = "the packages, which the repository itself holds"
        return DependencyFile(
            held, "held", reason, count, Evidence(held, 1), (path, held), names=tuple(asked)
        )
    if place + LOCK in tree:
        lock = read_lock(tree.root, place + LOCK)
        names = tuple(dict.fromkeys([*asked, *(one.name.lower() for one in lock.packages)]))
        return DependencyFile(
            place + LOCK,
            "lock",
            "the lock file",
            len(lock.packages),
            Evidence(place + LOCK, 1),
            files=(place + LOCK, path),
            names=names,
        )
    if not asked and not document.get("autoload"):
        return None
    line = tree.line_of(path, '"require"')
    return DependencyFile(
        path,
        "unlocked" if asked else "no packages",
        "the manifest, without a lock",
        len(asked),
        line if line.line else Evidence(path, 1),
        files=(path,),
        names=tuple(asked),
    )


def _held(tree: Tree, folder: str) -> str:
    """The ``autoload.php`` of installed packages that the repository tracks, "" where it tracks none."""
    try:
        vendor = vendor_folder(manifest(tree, folder), folder)
    except BadInput:
        return ""  # said by the step that installs
    place = f"{folder}/{vendor}/autoload.php" if folder else f"{vendor}/autoload.php"
    file = tree.root / place
    if not file.is_file() or not (file.parent / "composer").is_dir():
        return ""
    repository = repository_of(tree.root)
    if repository is None:
        # A release archive: made whole, with its packages, and without what a client would have left there.
        mark = tree.root / folder / vendor / "composer" / "autoload_real.php"
        ours = mark.is_file() and "Plainfall" in plain_text(mark, "utf-8", "replace")[:200]
        return "" if ours else place
    return place if repository.is_tracked(file) else ""
