"""What makes the classes of installed packages found, as values: prefixes, class map, files that are always loaded.

Which package goes first is as programs of this ecosystem expect it.
"""

from __future__ import annotations

import hashlib
import posixpath
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from msgspec import Struct, field

from plainfall.ecosystems.php.install.classmap import Rows, excluded
from plainfall.ecosystems.php.lists.manifests import config_of, mapping, strings
from plainfall.errors import DependencyProblem
from plainfall.evidence import Evidence

__all__ = ["ROOT", "Autoload", "Laid", "in_order", "read_autoload", "scanned_folders"]

ROOT = "__root__"


class Laid(Struct, frozen=True):
    """A package as it lies: its entry, its folder relative to the part ("" for the part itself), and the key of
    its tree in the cache ("" for files that are not from there)."""

    name: str
    entry: Mapping[str, Any]
    folder: str
    key: str = ""

    @property
    def requires(self) -> list[str]:
        """The names that it needs."""
        names = list(mapping(self.entry.get("require")))
        if not self.folder:
            names += mapping(self.entry.get("require-dev"))
        return names

    def sections(self) -> Iterator[Mapping[str, Any]]:
        """Its autoload sections: for the part itself the one for development, too."""
        yield mapping(self.entry.get("autoload"))
        if not self.folder:
            yield mapping(self.entry.get("autoload-dev"))


class Autoload(Struct):
    """How classes are found, all paths relative to the part: prefix → folders, class → file, key → file."""

    psr4: dict[str, list[str]] = field(default_factory=dict)
    psr0: dict[str, list[str]] = field(default_factory=dict)
    classes: dict[str, str] = field(default_factory=dict)
    files: dict[str, str] = field(default_factory=dict)
    include_paths: list[str] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)


def in_order(packages: Sequence[Laid]) -> list[Laid]:
    """The packages, those first that others need: by the number of packages that need them, directly or through
    others, then by name."""
    needed_by: dict[str, list[str]] = {}
    for one in packages:
        for name in one.requires:
            needed_by.setdefault(name.lower(), []).append(one.name.lower())
    weights: dict[str, int] = {}
    under_way: set[str] = set()

    def weight(name: str) -> int:
        if name in weights:
            return weights[name]
        if name in under_way:
            return 0
        under_way.add(name)
        result = -sum(1 - weight(other) for other in needed_by.get(name, ()))
        under_way.discard(name)
        weights[name] = result
        return result

    ranked = [(weight(one.name.lower()), _natural(one.name), one) for one in packages]
    return [one for *_, one in sorted(ranked, key=lambda row: row[:2])]


def _natural(name: str) -> list[tuple[int, int, str]]:
    """By numbers as numbers, and without case."""
    return [
        (0, int(piece), "") if piece.isdigit() else (1, 0, piece)
        for piece in re.findall(r"\d+|\D+", name.lower())
    ]


def _inside(package: Laid, path: str) -> str:
    """A path of a package's autoload section, from the part. Raises DependencyProblem for one that leads out of the
    package (of the part itself: out of the part)."""
    plain = posixpath.normpath(path.replace("\\", "/").strip("/") or ".")
    if (path.startswith("/") and package.folder == "") or plain.startswith(".."):
        raise DependencyProblem(
            f"{package.name}: its autoload section names {path[:100]!r}, outside of its folder",
            place=Evidence("composer.json" if not package.folder else f"{package.folder}/composer.json"),
            remedy="Nothing is loaded from there. Ask whoever publishes it, or take the entry out.",
        )
    joined = posixpath.normpath(posixpath.join(package.folder, plain))
    return "" if joined == "." else joined


def _tables(package: Laid, kind: str) -> Iterator[tuple[str, str]]:
    """Prefix (or "") and path of each entry of a kind."""
    for section in package.sections():
        value = section.get(kind)
        if isinstance(value, dict):
            for prefix, paths in value.items():
                for path in strings(paths):
                    yield str(prefix), path
        else:
            for path in strings(value):
                yield "", path


def read_autoload(root: Laid, packages: Sequence[Laid], scanned: Callable[[Laid, str], Rows]) -> Autoload:
    """Everything that the sections say; ``scanned`` gives the classes below a path of a package (relative to its
    folder). Where the manifest asks for it, the classes of namespaces go into the map, too. Raises
    DependencyProblem for a path that leads out."""
    result = Autoload()
    ordered = [*in_order(packages), root]
    # Folders of one prefix: the part's own come first, then those of packages by name.
    for package in [root, *sorted(packages, key=lambda one: one.name)]:
        for prefix, path in _tables(package, "psr-4"):
            _append(result.psr4, prefix, _inside(package, path))
        target = str(package.entry.get("target-dir") or "")
        for prefix, path in _tables(package, "psr-0"):
            base = package if not target or not package.folder else _above(package, target)
            _append(result.psr0, prefix, _inside(base, path))
        for path in strings(package.entry.get("include-path")):
            result.include_paths.append(_inside(package, path))
    for package in ordered:
        for _, path in _tables(package, "files"):
            where = _inside(package, path)
            key = hashlib.md5(f"{package.name}:{path}".encode(), usedforsecurity=False).hexdigest()
            result.files[key] = where
    for package in reversed(ordered):
        left_out = excluded([path for _, path in _tables(package, "exclude-from-classmap")])
        for _, path in _tables(package, "classmap"):
            for file, names in _rows(package, path, scanned, left_out):
                for name in names:
                    result.classes.setdefault(name, file)
    if config_of(root.entry, "optimize-autoloader", False) or config_of(
        root.entry, "classmap-authoritative", False
    ):
        _add_namespaces(result, ordered, scanned)
    result.psr4 = dict(sorted(result.psr4.items(), reverse=True))
    result.psr0 = dict(sorted(result.psr0.items(), reverse=True))
    result.classes = dict(sorted(result.classes.items()))
    return result


def _maps_namespaces(root: Laid) -> bool:
    return any(config_of(root.entry, key, False) for key in ("optimize-autoloader", "classmap-authoritative"))


def _above(package: Laid, target: str) -> Laid:
    """The package's folder without its ``target-dir``, from which the older naming rule counts."""
    ending = f"/{target.strip('/')}"
    return Laid(package.name, package.entry, package.folder.removesuffix(ending), package.key)


def _append(table: dict[str, list[str]], prefix: str, path: str) -> None:
    paths = table.setdefault(prefix, [])
    if path not in paths:
        paths.append(path)


def _rows(
    package: Laid, path: str, scanned: Callable[[Laid, str], Rows], left_out: re.Pattern[str] | None
) -> Iterator[tuple[str, list[str]]]:
    """The files below a path of a package, from the part, with their classes."""
    _inside(package, path)
    inner = posixpath.normpath(path.strip("/") or ".")
    for file, names in scanned(package, "" if inner == "." else inner):
        if left_out is None or not left_out.match(file):
            yield (f"{package.folder}/{file}" if package.folder else file), names


def _add_namespaces(result: Autoload, ordered: Sequence[Laid], scanned: Callable[[Laid, str], Rows]) -> None:
    """The classes that lie where their namespace says."""
    rows: list[tuple[str, str, Laid, str]] = []
    for package in reversed(ordered):
        for kind in ("psr-4", "psr-0"):
            rows += [(prefix, kind, package, path) for prefix, path in _tables(package, kind)]
    rows.sort(key=lambda row: row[0], reverse=True)
    for prefix, kind, package, path in rows:
        left_out = excluded([one for _, one in _tables(package, "exclude-from-classmap")])
        base = _inside(package, path)
        for file, names in _rows(package, path, scanned, left_out):
            stem = posixpath.splitext(file[len(base) + 1 if base else 0 :])[0]
            for name in names:
                if name.startswith(prefix) and _place_of(name, prefix, kind) == stem:
                    result.classes.setdefault(name, file)


def _place_of(name: str, prefix: str, kind: str) -> str:
    """The path, without its ending, at which a class has to lie."""
    if kind == "psr-4":
        return name[len(prefix) :].replace("\\", "/")
    space, backslash, own = name.rpartition("\\")
    return (space + backslash).replace("\\", "/") + own.replace("_", "/")


def scanned_folders(root: Laid, package: Laid) -> list[str]:
    """The paths of a package that are looked through for classes."""
    kinds = ["classmap"]
    if config_of(root.entry, "optimize-autoloader", False) or config_of(
        root.entry, "classmap-authoritative", False
    ):
        kinds += ["psr-4", "psr-0"]
    paths = [
        posixpath.normpath(path.strip("/") or ".") for kind in kinds for _, path in _tables(package, kind)
    ]
    return ["" if one == "." else one for one in dict.fromkeys(paths) if not one.startswith("..")]
