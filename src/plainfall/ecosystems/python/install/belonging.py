"""Which distribution owns a file of an environment, where several would install or remove the same one.

The wheel specification lets any wheel put any file anywhere in site-packages, and the reference client lets the
last one win. Here a file that another distribution has is not replaced: of several that hold it with different
contents, the one that the package is named for lays it, else the first.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path

from packaging.utils import canonicalize_name

from plainfall.ecosystems.python.install.laying import recorded_paths
from plainfall.ecosystems.python.runtime.environment import VirtualEnvironment
from plainfall.packages.cache import CachedTree
from plainfall.plain_files import plain_digest

__all__ = ["contested_files", "paths_of_others"]


def paths_of_others(environment: VirtualEnvironment, dist_infos: Iterable[str], own: str) -> set[str]:
    """Every path that the RECORD of another distribution lists."""
    return {path for info in dist_infos if info != own for path in recorded_paths(environment, info) if path}


def contested_files(
    environment: VirtualEnvironment, trees: Mapping[str, CachedTree], kept: Sequence[tuple[str, str]]
) -> dict[str, dict[str, str]]:
    """For each wheel that is about to be laid, the files that it is not to lay, with the distribution that has
    them: name to path (from site-packages) to owner. ``kept`` are the names and .dist-info folders of what is
    installed already. Files that are identical in both are left out."""
    owners: dict[str, str] = {}
    sources: dict[str, Path] = {}
    for name, info in kept:
        for path in recorded_paths(environment, info):
            owners[path] = name
            sources[path] = environment.packages / path
    contested: dict[str, dict[str, str]] = {}
    for name, tree in trees.items():
        for path, source in _files(tree):
            other = owners.get(path)
            if other is None or other == name:
                owners[path], sources[path] = name, source
            elif not _same(source, sources[path]):
                winner = _named_for(path, name, other)
                loser = name if winner == other else other
                contested.setdefault(loser, {})[path] = winner
                if winner == name:
                    owners[path], sources[path] = name, source
    return contested


def _files(tree: CachedTree) -> Iterator[tuple[str, Path]]:
    info, name = str(tree.facts["dist_info"]), str(tree.facts["dist_info"]).removesuffix(".dist-info")
    for file in tree.files:
        if not file.path.startswith((f"{info}/", f"{name}.data/")):
            yield file.path, tree.folder / file.path
    for scheme, path, within, _ in tree.facts["moved"]:
        if scheme in ("purelib", "platlib"):
            yield path, tree.folder / within
        elif scheme in ("scripts", "data"):
            yield f"../../../{'bin/' if scheme == 'scripts' else ''}{path}", tree.folder / within
    for command, *_ in tree.facts["entries"]:
        yield f"../../../bin/{command}", tree.folder / info / "entry_points.txt"


def _named_for(path: str, name: str, other: str) -> str:
    """The one of two distributions that a file is named for; the second, who was first, where neither is."""
    top = path.removeprefix("../../../bin/").partition("/")[0].removesuffix(".py")
    return name if canonicalize_name(top) == name and canonicalize_name(top) != other else other


def _same(one: Path, other: Path) -> bool:
    try:
        return one.stat().st_size == other.stat().st_size and plain_digest(one) == plain_digest(other)
    except OSError:
        return False
