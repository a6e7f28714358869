"""A package and its place, as a lock states them."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["LockRead", "Package", "checked_place", "for_this_machine", "wanted_here", "with_systems"]

_PIECE = r"[A-Za-z0-9~_-][A-Za-z0-9~._-]*"
_NAME = regex(rf"(?:@{_PIECE}/)?{_PIECE}")
_FOLDER = regex(r"(?:[^/\\:\0]+/)*")


class Package(Struct, frozen=True):
    """Where a package goes (``place``: ``node_modules/a/node_modules/b``, from the part) and what it is.

    ``address`` is what the lock says of where it comes from ("" for nothing), ``integrity`` a Subresource
    Integrity text ("" for none); ``link`` is the folder that a link leads to, relative to the part; ``bins``
    are its commands (None: its own manifest says). ``installs`` tells whether it wants to run code of its
    own, ``needs`` the names of what it depends on; ``patches`` are patch files to put on it, from the part.
    """

    place: str
    name: str
    version: str
    address: str = ""
    integrity: str = ""
    link: str | None = None
    optional: bool = False
    bundled: bool = False
    os: tuple[str, ...] = ()
    cpu: tuple[str, ...] = ()
    libc: tuple[str, ...] = ()
    bins: Mapping[str, str] | None = None
    installs: bool = False
    needs: tuple[str, ...] = ()
    patches: tuple[str, ...] = ()

    @property
    def label(self) -> str:
        """Name and version, for people."""
        return f"{self.name} {self.version}" if self.version else self.name


class LockRead(Struct, frozen=True):
    """A lock's packages, each once for each place, and remarks for people (a manifest out of step). ``knows_peers``
    is false for a form whose places do not heed peers, ``knows_systems`` for one that does not say which systems a
    package is for."""

    packages: Sequence[Package]
    remarks: tuple[str, ...] = ()
    asked: Mapping[str, str] = field(default_factory=dict)
    knows_peers: bool = True
    knows_systems: bool = True


def checked_place(place: str, evidence: Callable[[], Evidence]) -> str:
    """The place itself, if every piece of it is a package's name below a ``node_modules``, or a folder of the
    clone. Raises BadInput, with the ``evidence``, for one that would lead out."""
    head, *names = f"{place}/".split("node_modules/")
    right = _FOLDER.fullmatch(head) and ".." not in head.split("/")
    if not right or not all(_NAME.fullmatch(name[:-1]) and name[-1:] == "/" for name in names):
        raise BadInput(
            f"{place!r} would be laid outside its folder",
            place=evidence(),
            remedy="Nothing was installed. Restore the lock file from version control.",
        )
    return place


def for_this_machine(package: Package, facts: Mapping[str, object]) -> bool:
    """Whether a package is for this operating system, processor and C library, by its own lists (``!`` before
    a name excludes it)."""
    pairs = ((package.os, facts.get("platform")), (package.cpu, facts.get("arch")))
    if not all(_listed(wanted, str(here)) for wanted, here in pairs):
        return False
    libc = str(facts.get("libc") or "")
    return not libc or _listed(package.libc, libc)


_SYSTEM = regex(
    r"[-/](darwin|macos|win32|windows|linux|freebsd|android|sunos|openbsd|netbsd|aix)-?"
    r"(x64|arm64|aarch64|arm|ia32|loong64|mips64el|ppc64|riscv64|s390x|32|64)(?=$|-)"
)
_SAME = {"windows": "win32", "macos": "darwin", "32": "ia32", "64": "x64", "aarch64": "arm64"}


def with_systems(package: Package, manifest: Mapping[str, Any]) -> Package:
    """An optional package with the systems that its own manifest names; before that is known, with those that its
    name does (``@rain/words-darwin-arm64``)."""
    if not package.optional or package.os or package.cpu:
        return package
    if manifest:
        rows = {key: manifest.get(key) or () for key in ("os", "cpu", "libc")}
        lists = {key: tuple(map(str, [row] if isinstance(row, str) else row)) for key, row in rows.items()}
        return replace(package, os=lists["os"], cpu=lists["cpu"], libc=lists["libc"])
    named = _SYSTEM.search(package.name)
    if named is None:
        return package
    system, arch = (_SAME.get(one, one) for one in named.groups())
    return replace(package, os=(system,), cpu=(arch,))


def wanted_here(
    packages: Sequence[Package], facts: Mapping[str, object], asked: Collection[str]
) -> list[Package]:
    """The packages without the optional ones that are for another machine, and without what only those need.
    ``asked`` are the names that the clone's own manifests ask for."""
    left_out = {one.place for one in packages if one.optional and not for_this_machine(one, facts)}
    if not left_out:
        return list(packages)
    by_place = {one.place: one for one in packages}
    users: dict[str, list[str]] = {}
    for one in packages:
        for name in one.needs:
            place = _found_from(one.place, name, by_place)
            if place is not None:
                users.setdefault(place, []).append(one.place)
    changed = True
    while changed:
        changed = False
        for one in packages:
            if one.place in left_out or not one.optional:
                continue
            inside = any(one.place.startswith(f"{other}/") for other in left_out)
            top = one.place == f"node_modules/{one.name}" and one.name in asked
            needed_by = users.get(one.place, [])
            if inside or (needed_by and not top and all(user in left_out for user in needed_by)):
                left_out.add(one.place)
                changed = True
    return [one for one in packages if one.place not in left_out]


def _found_from(place: str, name: str, by_place: Mapping[str, Package]) -> str | None:
    """Where a package at a place finds another one: in its own folder, then in each one above."""
    folder = place
    while True:
        candidate = f"{folder}/node_modules/{name}" if folder else f"node_modules/{name}"
        if candidate in by_place:
            return candidate
        if not folder:
            return None
        folder = folder.rpartition("/node_modules/")[0] if "/node_modules/" in folder else ""


def _listed(wanted: tuple[str, ...], here: str) -> bool:
    if not wanted or wanted == ("any",):
        return True
    if f"!{here}" in wanted:
        return False
    positive = [word for word in wanted if not word.startswith("!")]
    return not positive or here in positive
