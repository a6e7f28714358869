"""Browser components that ``bower.json`` lists: revisions of repositories, each once, side by side.

Their folder is ``bower_components``, or the ``directory`` of ``.bowerrc``. A wish is a range of version tags,
a revision, or a repository with either behind ``#``; a plain name is looked up at the ``registry`` of
``.bowerrc`` (``GET REGISTRY/packages/NAME`` gives its repository). The resolved commits are stored, so that a later
run with the same file asks no server.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any
from urllib.parse import quote

from msgspec import Struct, field

from plainfall.ecosystems.node.install.repositories import RepositorySource, plain_files, repository_source
from plainfall.ecosystems.node.install.store import Store
from plainfall.ecosystems.node.lists.discover import COMPONENTS as LIST
from plainfall.ecosystems.node.resolve.versions import admits, best, is_range
from plainfall.ecosystems.shape import CloneAccess, Progress
from plainfall.errors import BadInput, DependencyProblem, EnvironmentProblem
from plainfall.evidence import Evidence
from plainfall.packages.cache import CachedTree, PackageCache, make_tree
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.checkouts import COMMIT, check_out, references_of
from plainfall.packages.client import RegistryClient
from plainfall.packages.placing import Folders, Placement, place_files
from plainfall.patterns import regex
from plainfall.plain_files import plain_text
from plainfall.reading import foreign_json, json_object
from plainfall.writing import digest_of

__all__ = ["Components", "install_components"]

_SETTINGS = ".bowerrc"
_MARK = ".plainfall.json"
_KEPT = "browser components"
_NAME = regex(r"[A-Za-z0-9_][\w.-]*")


class Components(Struct, frozen=True):
    """What was done: labels by what happened, the folder, and the names in it."""

    folder: str
    laid: tuple[str, ...] = ()
    kept: tuple[str, ...] = ()
    taken_out: tuple[str, ...] = ()
    remarks: tuple[str, ...] = ()
    names: tuple[str, ...] = ()


class _Chosen(Struct):
    """One component: where from, the commit, the version that its tag says ("" for none)."""

    address: str
    commit: str
    version: str = ""
    wishes: list[tuple[str, str]] = field(default_factory=list)


def install_components(
    part: Path,
    store: Store,
    state: Path,
    progress: Progress,
    access: CloneAccess,
    making: Callable[[Path], None],
) -> Components:
    """Makes the components' folder hold what the list wants. ``state`` is a folder for what was chosen.

    Raises BadInput for a list that cannot be read, DependencyProblem for what is nowhere, EnvironmentProblem
    for a folder that somebody else made."""
    document, settings = _read(part / LIST), _read(part / _SETTINGS)
    directory = os.path.normpath(str(settings.get("directory") or "bower_components"))
    if directory.startswith(("..", "/")):
        raise BadInput(
            f"the directory {directory!r} is outside the part",
            place=Evidence(_SETTINGS),
            remedy="Name one inside.",
        )
    wishes = {
        str(name): str(wish)
        for table in ("dependencies", "devDependencies")
        for name, wish in (document.get(table) or {}).items()
    }
    for name in wishes:
        if not _NAME.fullmatch(name):
            raise BadInput(f"{name!r} is no component's name", place=Evidence(LIST), remedy="Mend that name.")
    asked = digest_of(wishes, document.get("resolutions") or {}, settings)
    sealed = access.seal.read_file(state / "components.json", _KEPT)
    kept = sealed.content if sealed is not None and sealed.here else None
    trees: dict[str, CachedTree] = {}
    if isinstance(kept, dict) and kept.get("asked") == asked:
        chosen = {name: _Chosen(*row) for name, row in kept["chosen"].items()}
        remarks: list[str] = kept["remarks"]
        for name, one in chosen.items():
            trees[name] = _tree(store, one)
    else:
        resolver = _Resolver(store, settings, document.get("resolutions") or {}, progress)
        chosen, remarks, trees = resolver.run(wishes)
        rows = {name: [one.address, one.commit, one.version] for name, one in chosen.items()}
        content = {"asked": asked, "chosen": rows, "remarks": remarks}
        access.confined.write(state / "components.json", access.seal.text(_KEPT, content))
    if not os.path.lexists(part / directory):
        making(part / directory)
    return _lay(part, directory, chosen, trees, remarks, access)


def _read(path: Path) -> dict[str, Any]:
    if not path.is_file():
        return {}
    try:
        return json_object(plain_text(path, "utf-8-sig"), path.name)
    except (UnicodeDecodeError, OSError) as error:
        raise BadInput(
            f"it cannot be read: {error}", place=Evidence(path.name), remedy="Restore the file."
        ) from error


class _Resolver:
    def __init__(
        self, store: Store, settings: Mapping[str, Any], forced: Mapping[str, Any], progress: Progress
    ) -> None:
        self._store = store
        registry = settings.get("registry")
        if isinstance(registry, dict):
            search = registry.get("search")
            registry = search[0] if isinstance(search, list) and search else search
        self._registry = str(registry or "").rstrip("/")
        self._forced = {str(name): str(wish) for name, wish in forced.items()}
        self._progress = progress
        self._references: dict[str, dict[str, str]] = {}
        self._remarks: list[str] = []

    def run(self, wishes: Mapping[str, str]) -> tuple[dict[str, _Chosen], list[str], dict[str, CachedTree]]:
        chosen: dict[str, _Chosen] = {}
        trees: dict[str, CachedTree] = {}
        waiting = [(LIST, name, wish) for name, wish in wishes.items()]
        while waiting:
            asker, name, wish = waiting.pop(0)
            if name in chosen:
                self._compare(name, chosen[name], asker, wish)
                continue
            result = self._choose(asker, name, self._forced.get(name, wish))
            if result is None:
                continue
            chosen[name] = result
            trees[name] = _tree(self._store, result)
            self._progress(len(chosen), 0, "components found")
            inner = _read(trees[name].folder / LIST).get("dependencies") or {}
            waiting += [
                (name, str(other), str(text)) for other, text in inner.items() if _NAME.fullmatch(str(other))
            ]
        return chosen, self._remarks, trees

    def _compare(self, name: str, one: _Chosen, asker: str, wish: str) -> None:
        wanted = wish.rpartition("#")[2]
        if name not in self._forced and one.version and is_range(wanted) and not admits(wanted, one.version):
            self._remarks.append(
                f"{name} {one.version} is taken, though {asker} asks for {wanted}: one version serves all; "
                f"resolutions in {LIST} say which"
            )

    def _choose(self, asker: str, name: str, wish: str) -> _Chosen | None:
        place, _, wanted = wish.partition("#") if "#" in wish or "/" in wish else ("", "", wish)
        address = place or self._looked_up(asker, name)
        if address is None:
            return None
        repository = repository_source(address) or RepositorySource((address,))
        known = self._references.setdefault(
            address, references_of(repository.addresses, self._store.variables)
        )
        where = repository.addresses[0]
        wanted = wanted if wanted and wanted != "latest" else "*"
        if wanted in known:
            return _Chosen(where, known[wanted], wanted.removeprefix("v"))
        if COMMIT.fullmatch(wanted):
            return _Chosen(where, wanted)
        tag = best(wanted, list(known)) if is_range(wanted) else None
        if tag is not None:
            return _Chosen(where, known[tag], tag.removeprefix("v"))
        if wanted == "*" and "HEAD" in known:
            return _Chosen(where, known["HEAD"])
        raise DependencyProblem(
            f"{name}: no tag or branch of {where} is {wanted} (asked for by {asker})",
            place=Evidence(LIST),
            remedy="Change that wish, or force another version with resolutions.",
        )

    def _looked_up(self, asker: str, name: str) -> str | None:
        """A plain name's repository, by the registry that is configured; None where none is."""
        if not self._registry:
            self._remarks.append(
                f"{name} (asked for by {asker}) is left out: a plain name is looked up at a registry of "
                f"components, and {_SETTINGS} names none"
            )
            return None
        client = RegistryClient(self._store.registries.connection, self._store.variables)
        try:
            page = client.page(f"{self._registry}/packages/{quote(name)}")
        finally:
            client.close()
        document = foreign_json(page.body, page.url) if page is not None else {}
        if not isinstance(document, dict) or not document.get("url"):
            raise DependencyProblem(
                f"the registry of components has no {name} (asked for by {asker})",
                place=Evidence(LIST),
                remedy=f"Name its repository in {LIST}, or another registry in {_SETTINGS}.",
            )
        return str(document["url"])


def _tree(store: Store, one: _Chosen) -> CachedTree:
    """The files of a component, from the cache or its repository."""
    key = CacheKey.of_statement("node-components", [one.address], one.commit)
    value = PackageCache(store.cache).tree(key)
    if value is not None and not value.damaged():
        return value
    with PackageCache(store.cache).workshop() as name:
        checkout = Path(name, "checkout")
        check_out((one.address,), one.commit, checkout, store.variables)
        store.fetched += 1
        left_out = [str(row) for row in _read(checkout / LIST).get("ignore") or ()]
        label = one.address.rpartition("/")[2]
        return make_tree(
            store.cache, key, label, lambda folder: plain_files(checkout, folder, left_out), lambda *_: {}
        )


def _lay(
    part: Path,
    directory: str,
    chosen: Mapping[str, _Chosen],
    trees: Mapping[str, CachedTree],
    remarks: list[str],
    access: CloneAccess,
) -> Components:
    clone = access.confined
    place = clone.resolve(part / directory)
    mark = f"{_KEPT} in {place.relative_to(clone.root).as_posix()}"
    sealed = access.seal.read_file(place / _MARK, mark)
    before: dict[str, str] = sealed.content if sealed is not None and sealed.here else {}
    if sealed is None and os.path.lexists(place) and (not place.is_dir() or any(place.iterdir())):
        raise EnvironmentProblem(
            f"{place} exists and was not made by Plainfall",
            remedy=f"If nothing in it is yours, take it away (rm -r {place}) and run the same command again.",
        )
    place = clone.make_folder(place)
    laid, kept, folders = [], [], Folders(place)
    gone = [name for name in before if name not in chosen]
    for name in gone:
        clone.remove(place / name)
    for name, one in chosen.items():
        label = f"{name} {one.version or one.commit[:12]}"
        if before.get(name) == one.commit and (place / name).is_dir():
            kept.append(label)
            continue
        clone.remove(place / name)
        tree = trees[name]
        place_files(
            (Placement(f"{tree.folder}/{file.path}", f"{place}/{name}/{file.path}") for file in tree.files),
            folders,
        )
        laid.append(label)
    text = access.seal.text(mark, {name: one.commit for name, one in chosen.items()})
    clone.write(place / _MARK, text)
    return Components(directory, tuple(laid), tuple(kept), tuple(gone), tuple(remarks), tuple(sorted(chosen)))
