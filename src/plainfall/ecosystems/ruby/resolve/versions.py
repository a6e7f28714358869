"""Versions and requirements of Ruby's packages, and the systems that a package is for: as the runtime's own classes
compare them (``Gem::Version``, ``Gem::Requirement``, ``Gem::Platform``)."""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterable, Sequence
from functools import lru_cache

from msgspec import Struct

from plainfall.patterns import regex

__all__ = [
    "Requirement",
    "System",
    "Version",
    "is_version",
    "requirement",
    "requirement_of",
    "system",
    "takes_system",
    "version",
]

_VERSION = regex(r"([0-9]+(?:\.[0-9a-zA-Z]+)*(?:-[0-9A-Za-z-]+(?:\.[0-9A-Za-z-]+)*)?)?")
_PIECE = regex(r"[0-9]+|[a-zA-Z]+")
_WISH = regex(r"(=|!=|>=|<=|~>|>|<)?[ \t]{0,4}([0-9][0-9A-Za-z.-]*)")
_LONGEST = 200  # characters of a version or requirement


class Version(Struct, frozen=True, eq=False):
    """A version as it is written, and its pieces without trailing zeros."""

    text: str
    pieces: tuple[int | str, ...]

    @property
    def is_prerelease(self) -> bool:
        """Whether letters are in it."""
        return any(isinstance(one, str) for one in self.segments)

    @property
    def segments(self) -> tuple[int | str, ...]:
        """All pieces, trailing zeros too."""
        return _pieces(self.text)

    @property
    def release(self) -> Version:
        """The version without what makes it a prerelease."""
        kept = itertools.takewhile(lambda one: isinstance(one, int), self.segments)
        return version(".".join(map(str, kept)) or "0")

    @property
    def next_line(self) -> Version:
        """The first version that ``~>`` no longer admits."""
        kept = [
            one for one in itertools.takewhile(lambda one: isinstance(one, int), self.segments)
            if isinstance(one, int)
        ]  # fmt: skip
        kept = kept[:-1] if len(kept) > 1 else kept
        return version(".".join(map(str, [*kept[:-1], kept[-1] + 1])) if kept else "1")

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Version) and _compared(self.pieces, other.pieces) == 0

    def __hash__(self) -> int:
        return hash(self.pieces)

    def __lt__(self, other: Version) -> bool:
        return _compared(self.pieces, other.pieces) < 0

    def __le__(self, other: Version) -> bool:
        return _compared(self.pieces, other.pieces) <= 0

    def __gt__(self, other: Version) -> bool:
        return _compared(self.pieces, other.pieces) > 0

    def __ge__(self, other: Version) -> bool:
        return _compared(self.pieces, other.pieces) >= 0


def _pieces(text: str) -> tuple[int | str, ...]:
    return tuple(int(one) if one.isdigit() else one for one in _PIECE.findall(text.replace("-", ".pre.")))


def _compared(one: Sequence[int | str], other: Sequence[int | str]) -> int:
    """Negative, zero or positive: letters come before numbers, a missing piece counts as 0."""
    for left, right in itertools.zip_longest(one, other, fillvalue=0):
        if left == right:
            continue
        if isinstance(left, str) != isinstance(right, str):
            return -1 if isinstance(left, str) else 1
        return -1 if left < right else 1  # type: ignore[operator]
    return 0


def is_version(text: str) -> bool:
    """Whether a text is a version."""
    return len(text) <= _LONGEST and _VERSION.fullmatch(text.strip()) is not None


@lru_cache(8192)
def version(text: str) -> Version:
    """The version of a text. Raises ValueError for what is none."""
    if not is_version(text):
        raise ValueError(f"{text[:60]!r} is no version")
    plain = text.strip() or "0"
    pieces = list(_pieces(plain))
    letters = next((place for place, one in enumerate(pieces) if isinstance(one, str)), len(pieces))
    numbers, rest = pieces[:letters], pieces[letters:]
    for part in (numbers, rest):
        while part and part[-1] == 0:
            part.pop()
    return Version(plain, (*numbers, *rest))


class Requirement(Struct, frozen=True):
    """Conditions that all hold: operator and version of each, in the order in which they are written."""

    rows: tuple[tuple[str, Version], ...]

    def admits(self, wanted: Version) -> bool:
        """Whether a version meets them all."""
        return all(_holds(operator, wanted, bound) for operator, bound in self.rows)

    @property
    def is_prerelease(self) -> bool:
        """Whether a prerelease is named, so that others are admitted, too."""
        return any(bound.is_prerelease for _, bound in self.rows)

    @property
    def texts(self) -> list[str]:
        """Each condition as it is written."""
        return [f"{operator} {bound.text}" for operator, bound in self.rows]

    def __str__(self) -> str:
        return ", ".join(self.texts)


def _holds(operator: str, wanted: Version, bound: Version) -> bool:
    match operator:
        case "=":
            return wanted == bound
        case "!=":
            return wanted != bound
        case ">":
            return wanted > bound
        case "<":
            return wanted < bound
        case ">=":
            return wanted >= bound
        case "<=":
            return wanted <= bound
    return wanted >= bound and wanted.release < bound.next_line


def requirement_of(texts: Iterable[str]) -> Requirement:
    """The requirement of several conditions; none is ``>= 0``. Raises ValueError for what is none."""
    return requirement(",".join(texts))


@lru_cache(8192)
def requirement(text: str) -> Requirement:
    """The requirement of conditions with commas or ``&`` between them. Raises ValueError for what is none."""
    rows = []
    for piece in re.split(r"[,&]", text) if text.strip() else [">= 0"]:
        match = _WISH.fullmatch(piece.strip()) if len(piece) <= _LONGEST else None
        if match is None:
            raise ValueError(f"{piece.strip()[:60]!r} is no requirement of a version")
        rows.append((match.group(1) or "=", version(match.group(2))))
    return Requirement(tuple(rows))


class System(Struct, frozen=True):
    """A system that a package is for: processor, kind and version (each "" where it does not matter); one in pure
    Ruby has none of them."""

    cpu: str = ""
    kind: str = ""
    more: str = ""

    @property
    def is_ruby(self) -> bool:
        """Whether it is for every system."""
        return not self.kind


_KINDS = (
    (regex(r"linux-?(\w+)?"), "linux"), (regex(r"darwin-?(\d+)?"), "darwin"), (regex(r"mingw-?(\w+)?"), "mingw"),
    (regex(r"freebsd-?(\d+)?"), "freebsd"), (regex(r"java([\d.]*)|jruby"), "java"),
    (regex(r"mswin-?(\w+)?"), "mswin"), (regex(r"(cygwin|openbsd|netbsd|solaris|aix|wasi).*"), ""),
)  # fmt: skip


@lru_cache(512)
def system(text: str) -> System:
    """The system of a text such as ``x86_64-linux-gnu`` or ``ruby``."""
    if text in ("", "ruby"):
        return System()
    cpu, _, rest = text.partition("-")
    if not rest and not re.fullmatch(r"java.*|jruby|mswin.*|mingw.*", cpu):
        return System("", cpu, "")
    if not rest:
        cpu, rest = "", text
    cpu = "x86" if re.fullmatch(r"i\d86", cpu) else {"aarch64": "aarch64"}.get(cpu, cpu)
    for pattern, kind in _KINDS:
        match = pattern.fullmatch(rest)
        if match:
            more = match.group(1) if match.groups() else ""
            return System(cpu, kind or rest, "" if not kind else (more or ""))
    return System(cpu, rest, "")


def takes_system(here: System, package: System) -> bool:
    """Whether a package's system is this one: pure Ruby always, a musl build only on musl, one with no version on
    each version."""
    if package.is_ruby:
        return True
    if package.kind != here.kind:
        return False
    universal = package.cpu in ("", "universal") or here.cpu in ("", "universal")
    arm = package.cpu.startswith("arm") and here.cpu.startswith("arm") and "arm" in (package.cpu, here.cpu)
    if not (universal or arm or package.cpu == here.cpu):
        return False
    if here.kind == "linux":
        return (package.more or "gnu").removesuffix("eabihf") == (here.more or "gnu").removesuffix("eabihf")
    return not package.more or not here.more or package.more == here.more
