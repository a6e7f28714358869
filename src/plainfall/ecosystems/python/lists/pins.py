"""The result of reading a dependency list: pins to install as they stand, or wishes to resolve first."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from msgspec import Struct, field

from plainfall.ecosystems.python.lists.requirements import IndexOptions, RequirementLine
from plainfall.ecosystems.python.resolve.simple import IndexFile
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.consent import Withheld
from plainfall.packages.digests import Digest
from plainfall.runtimes.interpreters import Interpreter

__all__ = ["Listed", "Pin", "Reference", "Target", "choice_key"]


class Reference(Struct, frozen=True):
    """A package that comes from elsewhere than an index: ``kind`` is "path", "archive", "git", or "bundled" for a
    file of the interpreter's own, which no list can name; the address or path (relative to the clone); for git the
    revision; a folder within it; whether its own folder is used in place (PEP 660); the hashes that the list
    states for an archive, each of which what comes must have."""

    kind: str
    address: str
    revision: str = ""
    subfolder: str = ""
    editable: bool = False
    hashes: Mapping[str, frozenset[str]] = field(default_factory=dict)


class Pin(Struct, frozen=True):
    """One package to install: normalised name, exact version (empty for a reference that says none), the
    hashes that are accepted (none: the index's own count), archives that the lock itself names, the
    reference if it is one, and where it stands."""

    name: str
    version: str
    evidence: Evidence
    hashes: Mapping[str, frozenset[str]] = field(default_factory=dict)
    files: tuple[IndexFile, ...] = ()
    reference: Reference | None = None

    def __post_init__(self) -> None:
        """Raises BadInput for a hash that is none."""
        for algorithm, digests in self.hashes.items():
            for digest in digests:
                try:
                    Digest(algorithm, digest)
                except ValueError as error:
                    raise BadInput(
                        f"{self.name}: {error}",
                        place=self.evidence,
                        remedy="Write the lock again with the tool that made it, or restore it.",
                    ) from error


class Target(Struct, frozen=True):
    """The target that a list is read for: the interpreter's markers (PEP 508), the extras and groups that are
    wanted,
    the variables that may stand in a list, in addresses at the ``hosts`` for which the person allowed it."""

    markers: Mapping[str, str]
    extras: frozenset[str] = frozenset()
    groups: frozenset[str] = frozenset()
    variables: Mapping[str, str] = field(default_factory=dict)
    hosts: frozenset[str] = frozenset()

    def holds(self, marker: Any, extra: str = "") -> bool:
        """Whether a marker (or None) holds here, for one extra if given."""
        if marker is None:
            return True
        extras = {extra} if extra else self.extras or {""}
        return any(marker.evaluate({**self.markers, "extra": name}) for name in extras)


class Listed(Struct, frozen=True):
    """A list that was read. ``pins`` is None if it is not complete: then ``wishes`` are to be resolved,
    under ``constraints``. ``extras`` and ``groups`` are those it offers; ``files`` all that were read;
    ``python`` the version of Python that a lock was made for, as a specifier."""

    kind: str
    path: str
    files: tuple[str, ...]
    pins: tuple[Pin, ...] | None = None
    wishes: tuple[RequirementLine, ...] = ()
    constraints: tuple[RequirementLine, ...] = ()
    options: IndexOptions = field(default_factory=IndexOptions)
    prereleases: bool = False
    extras: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()
    python: tuple[str, Evidence] | None = None
    remarks: tuple[str, ...] = ()
    withheld: tuple[Withheld, ...] = ()


def choice_key(pin: Pin, interpreter: Interpreter, origin: Sequence[str] = ()) -> CacheKey:
    """Under which the wheel that was chosen for a pin with hashes is remembered. One that the list itself names
    by its SHA-256 is the same whatever registry offered it: whoever takes it up compares it with the list
    again. What was built, or is named by another digest, depends on the registries of ``origin``."""
    about = [pin.name, pin.version, {name: sorted(values) for name, values in pin.hashes.items()}]
    if not origin:
        return CacheKey.of_machine("choices", *about, interpreter.identity)
    return CacheKey.of_statement("choices", origin, *about, interpreter.identity)
