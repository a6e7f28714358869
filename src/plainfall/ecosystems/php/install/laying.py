"""Puts the packages of a lock into their folders: linked from the cache, each moved into place as a whole."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

from plainfall.confinement import Confined
from plainfall.ecosystems.php.install.store import Store
from plainfall.ecosystems.php.lists.manifests import Locked, mapping
from plainfall.ecosystems.shape import CloneAccess, Progress
from plainfall.ecosystems.shared.tree_laying import Laying, is_complete, lay_trees
from plainfall.errors import BadInput, DependencyProblem, EnvironmentProblem
from plainfall.evidence import Evidence
from plainfall.packages.cache_key import CacheKey
from plainfall.plain_files import plain_bytes
from plainfall.reading import foreign_json
from plainfall.repository import Repository, repository_of

__all__ = ["Laying", "lay"]


def lay(
    part: Path,
    wanted: Mapping[str, Locked],
    vendor: str,
    store: Store,
    making: Path,
    before: Mapping[str, str],
    progress: Progress,
    access: CloneAccess,
) -> Laying:
    """Makes the folders hold the packages (``wanted`` by their places, relative to the part) and nothing else of
    what ``before`` tells was laid. Raises what the store raises, PathRefused, and EnvironmentProblem for a place
    that holds files of the project."""
    confined = access.confined
    part = confined.make_folder(part)
    confined.own_folder(part / vendor)
    done = Laying(keys={place: _key(store, one) for place, one in wanted.items()})
    kept = [
        place
        for place, key in done.keys.items()
        if before.get(place) == key and _is_complete(part, place, key, store, access.edited)
    ]
    todo = {place: one for place, one in wanted.items() if place not in kept}
    kept = [place for place in kept if not any(place.startswith(f"{other}/") for other in todo)]
    todo = {place: one for place, one in wanted.items() if place not in kept}
    theirs = {} if before else _of_another_client(part, vendor)
    gone = [place for place in {**before, **theirs} if place not in wanted and _is_place(place)]
    _check_free(confined, part, [*todo, *gone], {*before, *theirs})
    links = {place: one for place, one in todo.items() if _link(one)}
    for one in links.values():
        _check_link(confined, part, one)
    archives = {place: one for place, one in todo.items() if place not in links}
    if archives:
        confined.remove(making)  # what a run before was stopped at
        root = Path(tempfile.mkdtemp(prefix="php-", dir=confined.make_folder(making)))
        lay_trees(root, archives, store, done, progress)
    for place in sorted(gone, key=len, reverse=True):
        if confined.remove(part / place):
            done.taken_out.append(place.removeprefix(f"{vendor}/"))
    for place in sorted(archives, key=len):
        confined.remove(part / place)
        confined.rename(root / place, part / place)
    for place, one in links.items():
        confined.link(part / place, os.path.relpath(part / _link(one), (part / place).parent))
    if archives:
        confined.remove(making)
    done.laid += [one.label for one in todo.values()]
    done.kept = [wanted[place].label for place in kept]
    for place in wanted:
        if place not in links and place in done.keys:
            done.names.setdefault(place, _entries(part / place))
    return done


def _key(store: Store, package: Locked) -> str:
    link = _link(package)
    return f"link:{link}" if link else store.key(package).name


def _link(package: Locked) -> str:
    """The folder of the clone that a package is, "" for one with an archive."""
    return str(package.dist.get("url") or "") if package.dist.get("type") == "path" else ""


def _check_link(confined: Confined, part: Path, package: Locked) -> None:
    """Raises DependencyProblem for a package that is a folder outside of the clone, or none."""
    real = Path(os.path.realpath(part / _link(package)))
    if not real.is_relative_to(confined.root) or not real.is_dir():
        raise DependencyProblem(
            f"{package.label} is to be the folder {_link(package)[:200]}, which is no folder of the clone",
            place=Evidence("composer.lock"),
            remedy="Nothing was linked. Fetch what belongs there, or take the entry out.",
        )


def _is_place(place: str) -> bool:
    return bool(place) and not place.startswith("/") and ".." not in place.split("/")


def _entries(folder: Path) -> list[str]:
    return sorted(os.listdir(folder)) if folder.is_dir() else []


def _is_complete(part: Path, place: str, key: str, store: Store, edited: frozenset[str]) -> bool:
    """Whether a package that was laid before is there with every file, none of them edited through a link."""
    if key.startswith("link:"):
        return (part / place).is_symlink()
    return is_complete(part / place, CacheKey.recorded("php", key), store.cache, edited)


def _of_another_client(part: Path, vendor: str) -> dict[str, str]:
    """The places of packages that another client installed there, as its own record says."""
    file = part / vendor / "composer" / "installed.json"
    if not file.is_file() or file.is_symlink():
        return {}
    try:
        document = foreign_json(plain_bytes(file), str(file))
    except BadInput:
        return {}  # what it lists nobody knows: its folders are replaced one by one, as far as they are wanted
    rows = document.get("packages") if isinstance(document, dict) else document
    names = [str(mapping(row).get("name") or "") for row in rows] if isinstance(rows, list) else []
    places = [f"{vendor}/{name}" for name in names if name.count("/") == 1 and _is_place(name)]
    # A folder without a manifest is no package, whatever a file that may be the clone's own says.
    return {place: "" for place in places if _looks_installed(part / place)}


def _check_free(confined: Confined, part: Path, places: Sequence[str], known: set[str]) -> None:
    """Raises EnvironmentProblem where files of the project lie in the place of a package, and for what nobody said
    was a package."""
    repository = repository_of(confined.root)
    for place in places:
        path = part / place
        linked = next((one for one in path.parents if one.is_relative_to(part) and one.is_symlink()), None)
        if linked is not None:
            raise EnvironmentProblem(
                "it is a link, and packages would be laid where it leads",
                place=Evidence(linked.relative_to(part).as_posix()),
                remedy="Take the link away, or put the folder itself in its place.",
            )
        if not os.path.lexists(path) or path.is_symlink():
            continue
        inner = path.relative_to(confined.root).as_posix() if path.is_relative_to(confined.root) else place
        tracked = next(_tracked_below(repository, inner), "") if repository is not None else ""
        if tracked or (place not in known and any(path.iterdir()) and not _looks_installed(path)):
            raise EnvironmentProblem(
                f"{place} holds files that no package client laid there"
                + (f", such as {tracked}, which the repository tracks" if tracked else ""),
                place=Evidence(inner),
                remedy="Nothing was changed. Move them away, or name another folder for packages in the manifest.",
            )


def _tracked_below(repository: Repository, folder: str) -> Iterator[str]:
    return (path for path in repository.tracked if path.startswith(f"{folder}/"))


def _looks_installed(folder: Path) -> bool:
    """Whether a folder holds a package with its manifest."""
    return (folder / "composer.json").is_file()
