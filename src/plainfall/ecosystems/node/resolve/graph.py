"""A graph of packages, and its layout in nested ``node_modules`` folders.

Every package goes as high as it can: to the highest folder in which neither another version of it lies, nor
one that lies there would be hidden from a package that needs it. One that lies around already is linked to.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Mapping

from msgspec import Struct, field

from plainfall.ecosystems.node.lists.locks.package import Package

__all__ = ["GraphPackage", "hoisted"]


class GraphPackage(Struct, frozen=True):
    """A package and what it needs: ``needs`` maps the name under which it asks to the key of the package that
    it gets; ``optional`` are those of these names that it can do without."""

    name: str
    version: str
    address: str = ""
    integrity: str = ""
    needs: Mapping[str, str] = field(default_factory=dict)
    optional: frozenset[str] = frozenset()
    os: tuple[str, ...] = ()
    cpu: tuple[str, ...] = ()
    libc: tuple[str, ...] = ()
    link: str | None = None
    patches: tuple[str, ...] = ()


def hoisted(
    graph: Mapping[str, GraphPackage], roots: Mapping[str, Mapping[str, str]], optional: frozenset[str]
) -> list[Package]:
    """The packages at their places. ``roots`` maps each folder of the clone ("" for the part itself) to what
    it asks for (name → key), ``optional`` are names that the part itself can do without."""
    return _Layout(graph, optional).run(roots)


class _Layout:
    def __init__(self, graph: Mapping[str, GraphPackage], optional: frozenset[str]) -> None:
        self._graph = graph
        self._optional = optional
        self._held: dict[str, dict[str, str]] = {"": {}}
        self._needed: set[str] = set()
        self._links: dict[str, str] = {}
        self._roots: set[str] = set()
        # What each package resolved to so far: name → (folder that asked, folder that it was found in).
        self._uses: dict[str, list[tuple[str, str]]] = {}

    def run(self, roots: Mapping[str, Mapping[str, str]]) -> list[Package]:
        self._roots = set(roots)
        waiting: deque[tuple[str, str, str, bool]] = deque()
        for folder, wishes in sorted(roots.items()):
            for name, key in sorted(wishes.items()):
                waiting.append((folder, name, key, name not in self._optional))
        while waiting:
            folder, name, key, needed = waiting.popleft()
            package = self._graph.get(key)
            if package is None:
                continue
            place = self._place(folder, name, key)
            new = place is not None
            where = place if place is not None else self._found(folder, name)
            again = needed and where not in self._needed
            if needed:
                self._needed.add(where)
            if where in self._links:
                continue
            if new or again:
                for other, wanted in sorted(package.needs.items()):
                    waiting.append((where, other, wanted, needed and other not in package.optional))
        return [self._package(place, key) for place, key in self._everything()]

    def _everything(self) -> Iterator[tuple[str, str]]:
        for folder, names in sorted(self._held.items()):
            for name, key in sorted(names.items()):
                yield _within(folder, name), key

    def _package(self, place: str, key: str) -> Package:
        result = self._graph[key]
        return Package(
            place,
            result.name,
            result.version,
            result.address,
            result.integrity,
            self._links.get(place, result.link),
            place not in self._needed,
            os=result.os,
            cpu=result.cpu,
            libc=result.libc,
            bins=None,
            needs=tuple(result.needs),
            patches=result.patches,
        )

    def _found(self, folder: str, name: str) -> str:
        for above in _upwards(folder):
            if name in self._held.get(above, {}):
                return _within(above, name)
        raise KeyError(name)

    def _place(self, folder: str, name: str, key: str) -> str | None:
        """Puts a package where the folder finds it; None if it finds the right one already."""
        highest = folder
        for above in _upwards(folder):
            if "node_modules/" not in above and above not in self._roots:
                continue  # a folder between the part and a workspace holds no packages
            value = self._held.get(above, {}).get(name)
            if value == key:
                self._uses.setdefault(name, []).append((folder, above))
                return None
            if value is not None:
                break
            if self._hides(above, name):
                break
            highest = above
        self._held.setdefault(highest, {})[name] = key
        around = self._around(highest, key)
        if around is not None:
            # Packages that need each other in several versions would nest without an end.
            self._links[_within(highest, name)] = around
        self._uses.setdefault(name, []).append((folder, highest))
        return _within(highest, name)

    def _around(self, folder: str, key: str) -> str | None:
        """The place around a folder, if any, in which this very package lies."""
        for above in _upwards(folder):
            outer, _, name = f"/{above}".rpartition("/node_modules/")
            if name and self._held.get(outer.lstrip("/"), {}).get(name) == key:
                return above
        return None

    def _hides(self, folder: str, name: str) -> bool:
        """Whether a package in this folder would stand between one that asked before and what it found."""
        return any(
            _is_inside(asker, folder) and _is_inside(folder, result) and result != folder
            for asker, result in self._uses.get(name, ())
        )


def _within(folder: str, name: str) -> str:
    return f"{folder}/node_modules/{name}" if folder else f"node_modules/{name}"


def _is_inside(folder: str, above: str) -> bool:
    return above == "" or folder == above or folder.startswith(f"{above}/")


def _upwards(folder: str) -> Iterator[str]:
    """A folder that holds a ``node_modules``, and each one above it that the runtime looks into."""
    yield folder
    while folder:
        if "/node_modules/" in folder:
            folder = folder.rpartition("/node_modules/")[0]
        elif folder.startswith("node_modules/"):
            folder = ""
        else:
            folder = folder.rpartition("/")[0]
        yield folder
