"""The record of what was laid in a ``node_modules`` before, and the checks before it is changed."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path

from msgspec import Struct

from plainfall.confinement import Confined
from plainfall.ecosystems.node.lists.locks.package import Package
from plainfall.ecosystems.shape import CloneAccess
from plainfall.errors import BadInput, EnvironmentProblem
from plainfall.evidence import Evidence

__all__ = ["Mark", "check_ours", "check_places", "code_ran", "holder_of"]

_MARK = ".plainfall.json"
_VERSION = 2


def code_ran(part: Path, place: str, access: CloneAccess) -> None:
    """Notes that the own code of the package at a place has run to its end."""
    part = access.confined.make_folder(part)
    mark = Mark.of(part, access)
    mark.write(part, access, mark.places, complete=True, unfinished=mark.unfinished - {place})


class Mark(Struct, frozen=True):
    """What was laid before: ``places`` is empty if nothing was, or not to the end; ``ours`` tells whether this
    user's Plainfall wrote the mark, here or in a folder that this one is a copy of; ``unfinished`` are places
    whose own code was allowed to run and did not run to its end."""

    places: dict[str, str]
    ours: bool
    unfinished: frozenset[str] = frozenset()

    @classmethod
    def of(cls, part: Path, access: CloneAccess) -> Mark:
        result = access.seal.read_file(part / "node_modules" / _MARK, cls._name(part, access))
        data = result.content if result is not None else None
        if not isinstance(data, dict) or result is None:
            return cls({}, False)
        counts = result.here and data.get("version") == _VERSION and data.get("complete")
        return cls(data["places"], True, frozenset(data["unfinished"])) if counts else cls({}, True)

    @staticmethod
    def _name(part: Path, access: CloneAccess) -> str:
        return f"node_modules of {part.relative_to(access.confined.root).as_posix()}"

    @classmethod
    def write(
        cls,
        root: Path,
        access: CloneAccess,
        places: Mapping[str, str],
        *,
        complete: bool,
        unfinished: Iterable[str] = (),
        inside: Confined | None = None,
        part: Path | None = None,
    ) -> None:
        content = {
            "version": _VERSION,
            "complete": complete,
            "places": dict(places),
            "unfinished": sorted(unfinished),
        }
        text = access.seal.text(cls._name(part or root, access), content)
        (inside or access.confined).write(root / "node_modules" / _MARK, text)


def check_places(packages: Sequence[Package]) -> None:
    """Raises BadInput for a package that is to lie within a link: it would be laid in what that leads to."""
    links = {one.place for one in packages if one.link is not None}
    for one in packages:
        place = one.place
        while "/" in place:
            place = place.rpartition("/")[0]
            if place in links:
                raise BadInput(
                    f"{one.place} is to be laid within {place}, which is a link",
                    place=Evidence("the lock"),
                    remedy="Nothing was installed. Restore the lock file from version control.",
                )


def check_ours(part: Path, mark: Mark, packages: Sequence[Package], clone: Confined) -> None:
    """Raises EnvironmentProblem for a folder of packages that somebody else made: the part's own, or one of a
    workspace."""
    inner = {holder_of(package.place) for package in packages}
    for where in sorted({"node_modules", *inner}):
        place = clone.resolve(part / where)
        if not os.path.lexists(place):
            continue
        if mark.ours and (where == "node_modules" or not mark.places):
            continue
        if any(other.startswith(f"{where}/") for other in mark.places):
            continue
        if place.is_symlink() or not place.is_dir() or any(place.iterdir()):
            raise EnvironmentProblem(
                f"{place} exists and was not made by Plainfall",
                remedy=f"If nothing in it is yours, take it away (rm -r {place}) and run the same command again.",
            )


def holder_of(place: str) -> str:
    """The outermost folder of packages that a place is in."""
    return f"{place.partition('node_modules')[0]}node_modules"
