"""What a resolution goes through: wishes for packages, and candidates for them."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

from packaging.requirements import Requirement
from packaging.version import InvalidVersion, Version

from plainfall.ecosystems.python.lists.requirements import RequirementLine
from plainfall.ecosystems.python.resolve.simple import IndexFile
from plainfall.evidence import Evidence

__all__ = ["PYTHON", "Candidate", "Direct", "Wish"]

PYTHON = "python/itself"  # no package has such a name: what packages want of the Python stands under it


@dataclass(frozen=True)
class Direct:
    """A package that comes from a reference, and was obtained before resolving: what it says of itself."""

    name: str
    version: str
    requires: tuple[Requirement, ...]
    evidence: Evidence

    @property
    def comparable(self) -> Version:
        """Its version; 0 for one that is none by PEP 440 ("DEV"), as old build tools let stand."""
        try:
            return Version(self.version)
        except InvalidVersion:
            return Version("0")


@dataclass(frozen=True)
class Wish:
    """A requirement for a package or for one of its extras ("": for the package itself), by a line of the
    project or a ``parent``."""

    requirement: Requirement
    name: str
    extra: str
    line: RequirementLine | None
    parent: str

    @cached_property
    def specifier(self) -> str:
        """The versions that it admits, as text: a key that is made once."""
        return str(self.requirement.specifier)

    @cached_property
    def operators(self) -> frozenset[str]:
        return frozenset(spec.operator for spec in self.requirement.specifier)

    def wording(self) -> str:
        """The wish in words, by the project's own line if it is one."""
        if self.line is not None:
            return f"{self.line.evidence} wants {self.requirement}"
        return f"{self.parent} wants {self.requirement}"


@dataclass(frozen=True)
class Candidate:
    """A version that may be taken, and its archives that fit."""

    name: str
    version: Version
    extra: str
    files: tuple[IndexFile, ...] = field(compare=False, default=())
    direct: Direct | None = field(compare=False, default=None)
