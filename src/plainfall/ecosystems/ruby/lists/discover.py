"""Chooses a Ruby part's dependency list."""

from __future__ import annotations

import posixpath
from collections.abc import Iterator

from plainfall.clone.parts import DependencyFile
from plainfall.clone.walk import Tree
from plainfall.ecosystems.ruby.lists.gemfile import Manifest, Wish, gemspec_of, manifest_of
from plainfall.ecosystems.ruby.lists.locks import lock_names, read_lock
from plainfall.ecosystems.ruby.runtime.asks import lock_path
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["dependency_file"]

_SETTINGS = regex(r"config/[\w./-]{1,80}\.ya?ml|\.env\b")


def dependency_file(tree: Tree, folder: str) -> DependencyFile | None:
    """The list that counts: the lock, else the manifest if it lists anything; None if there is neither."""
    manifest = manifest_of(tree, folder)
    if manifest is None:
        return None
    asked = tuple(
        dict.fromkeys(one.name.lower() for one in (*manifest.wishes, *_of_gemspecs(tree, folder, manifest)))
    )
    path = lock_path(tree, folder)
    files = (manifest.path, *(f"{folder}/{one}" if folder else one for one in _gemspecs(tree, folder)))
    needs_settings = bool(manifest.unread) and _SETTINGS.search(tree.text(manifest.path)) is not None
    if path:
        lock = read_lock(tree.root, path)
        count = len({one.name for one in lock.packages if one.source.kind != "path"})
        return DependencyFile(
            path,
            "lock",
            "the lock file",
            count,
            Evidence(path, 1),
            files=(path, *files),
            names=lock_names(lock),
            needs_settings=needs_settings,
        )
    if not asked and not manifest.gemspecs and not manifest.unread:
        return None
    place = manifest.wishes[0].place if manifest.wishes else Evidence(manifest.path, 1)
    return DependencyFile(
        manifest.path,
        "unlocked",
        "the manifest, without a lock",
        len(asked),
        place,
        files=files,
        names=asked,
        needs_settings=needs_settings,
    )


def _of_gemspecs(tree: Tree, folder: str, manifest: Manifest) -> Iterator[Wish]:
    """What the gemspecs ask for that the manifest takes packages from, as far as their lines are plain."""
    for place in manifest.gemspecs:
        inner = posixpath.normpath(posixpath.join(folder, place))
        inner = "" if inner == "." else inner
        for name in _gemspecs(tree, inner):
            path = f"{inner}/{name}" if inner else name
            yield from gemspec_of(tree.text(path), path)[1]


def _gemspecs(tree: Tree, folder: str) -> list[str]:
    return [name for name in tree.folders.get(folder, ()) if name.endswith(".gemspec")]
