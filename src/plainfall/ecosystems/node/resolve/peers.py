"""Peers in layouts of locks that do not know them: a package that would find another version of what it works
beside gets a copy beside the right one.

The classic yarn's lock says nothing of peers, and the highest place for a package may be beside another version of
its peer than that of those who ask for it. What each package finds is told by walking up as the runtime does."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from typing import Any

from msgspec.structs import replace

from plainfall.ecosystems.node.lists.locks.package import Package
from plainfall.ecosystems.node.resolve.versions import admits

__all__ = ["unmet", "with_peers"]

_ROUNDS = 6  # a copy may need a copy of its own


def with_peers(
    packages: Sequence[Package], asked: Collection[str], manifest_of: Callable[[Package], Mapping[str, Any]]
) -> list[Package]:
    """The packages at places from which each finds its peers, where that can be: one that does not is nested in
    those who ask for it and find the right peer. ``asked`` are names that the part itself asks for; ``manifest_of``
    gives a package's own manifest, empty where it is not known yet. A package that nobody finds any more is left
    out."""
    layout = _Layout({one.place: one for one in packages}, frozenset(asked), manifest_of)
    for _ in range(_ROUNDS):
        if not layout.mended():
            break
    return list(layout.places.values())


def unmet(
    packages: Sequence[Package], manifest_of: Callable[[Package], Mapping[str, Any]]
) -> list[tuple[Package, str, str]]:
    """What does not resolve in a layout: a package, the name that its own manifest asks for, and what is wrong
    ("nothing is found", or the version that is). Dependencies count, and peers of which a wrong version is found
    while the right one lies elsewhere; what is optional, or what a package brings along, does not."""
    layout = _Layout({one.place: one for one in packages}, frozenset(), manifest_of)
    versions: dict[str, list[str]] = {}
    for one in packages:
        versions.setdefault(one.name, []).append(one.version)
    wrong = []
    for one in packages:
        if one.link is not None or one.bundled:
            continue
        manifest = manifest_of(one)
        brought = manifest.get("bundleDependencies") or manifest.get("bundledDependencies") or ()
        optional = manifest.get("optionalDependencies") or {}
        for name in manifest.get("dependencies") or {}:
            brings = brought is True or (isinstance(brought, list) and name in brought)
            if name not in optional and not brings and layout.found(one.place, str(name)) is None:
                wrong.append((one, str(name), "nothing is found"))
        for name, wish in layout.peers(one).items():
            found = layout.found(one.place, name)
            if found is None or admits(wish, found.version):
                continue
            if any(admits(wish, version) for version in versions.get(found.name, ())):
                wrong.append((one, name, found.version))
    return wrong


class _Layout:
    def __init__(
        self,
        places: dict[str, Package],
        asked: frozenset[str],
        manifest_of: Callable[[Package], Mapping[str, Any]],
    ) -> None:
        self.places = places
        self._asked = asked
        self._manifest_of = manifest_of

    def mended(self) -> bool:
        """Nests packages that find a wrong peer; returns whether anything was changed."""
        changed = False
        askers: dict[str, list[Package]] | None = None
        for package in list(self.places.values()):
            wrong = [
                (name, wish)
                for name, wish in self.peers(package).items()
                if not self._fits(package, name, wish)
            ]
            if not wrong or package.link is not None:
                continue
            askers = askers if askers is not None else self._askers()
            moved = [
                asker for asker in askers.get(package.place, ()) if self._is_better(package, asker, wrong)
            ]
            for asker in moved:
                changed = self._nested(package, asker) or changed
            is_asked = (
                package.place == f"node_modules/{_name_at(package)}" and _name_at(package) in self._asked
            )
            if moved and len(moved) == len(askers.get(package.place, ())) and not is_asked:
                del self.places[package.place]
        return changed

    def peers(self, package: Package) -> dict[str, str]:
        """The peers that a package cannot do without, with the versions that it works beside."""
        manifest = self._manifest_of(package)
        optional = manifest.get("peerDependenciesMeta") or {}
        return {
            str(name): str(wish)
            for name, wish in (manifest.get("peerDependencies") or {}).items()
            if not (optional.get(name) or {}).get("optional")
        }

    def found(self, place: str, name: str) -> Package | None:
        """What a package at a place gets for a name."""
        above = place
        while True:
            inner = f"{above}/node_modules/{name}" if above else f"node_modules/{name}"
            if inner in self.places:
                return self.places[inner]
            if not above:
                return None
            above = above.rpartition("/node_modules/")[0] if "/node_modules/" in above else ""

    def _fits(self, package: Package, name: str, wish: str) -> bool:
        found = self.found(package.place, name)
        return found is not None and admits(wish, found.version)

    def _askers(self) -> dict[str, list[Package]]:
        """Those who find each package, by its place."""
        results: dict[str, list[Package]] = {}
        for one in self.places.values():
            for name in one.needs:
                found = self.found(one.place, name)
                if found is not None:
                    results.setdefault(found.place, []).append(one)
        return results

    def _is_better(self, package: Package, asker: Package, wrong: Sequence[tuple[str, str]]) -> bool:
        """Whether the package would find its peers beside what the asker finds."""
        if asker.link is not None:
            return False
        founds = [(self.found(asker.place, name), wish) for name, wish in wrong]
        return all(found is not None and admits(wish, found.version) for found, wish in founds)

    def _nested(self, package: Package, asker: Package) -> bool:
        """A copy of the package in the asker's folder, with copies of what it would find otherwise there."""
        place = f"{asker.place}/node_modules/{_name_at(package)}"
        if place in self.places:
            return False
        self.places[place] = replace(package, place=place)
        for name in package.needs:
            before, now = self.found(package.place, name), self.found(place, name)
            if before is not None and (now is None or now.version != before.version):
                inner = f"{place}/node_modules/{name}"
                self.places[inner] = replace(before, place=inner)
        return True


def _name_at(package: Package) -> str:
    """The name under which a package lies where it is (an alias's own)."""
    return package.place.rpartition("node_modules/")[2]
