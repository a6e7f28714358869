"""Versions and ranges of Node packages: Semantic Versioning 2.0.0, and the range grammar of the ecosystem.

The grammar has comparators (``>=1.2.3``), hyphen ranges (``1.2 - 2.0``), x-ranges (``1.x``), tildes and
carets, joined by blanks (all must hold) and ``||`` (one must). A pre-release is admitted only by a
comparator of the same major, minor and patch that is a pre-release itself.
"""

from __future__ import annotations

import re
from functools import lru_cache
from typing import TypeAlias

from msgspec import Struct

from plainfall.patterns import regex

__all__ = ["Version", "admits", "best", "is_range", "order", "parse_version"]

_LARGEST = 2**53 - 1
_NUMBER = r"0|[1-9]\d*"
_PRE = rf"(?:{_NUMBER}|\d*[A-Za-z-][0-9A-Za-z-]*)"
_VERSION = regex(
    rf"^[v=\s]*({_NUMBER})\.({_NUMBER})\.({_NUMBER})(?:-({_PRE}(?:\.{_PRE})*))?(?:\+[0-9A-Za-z-]+(?:\.[0-9A-Za-z-]+)*)?$"
)
_X = rf"(?:{_NUMBER}|[xX*])"
_PARTIAL = (
    rf"[v=\s]*({_X})(?:\.({_X})(?:\.({_X})(?:-({_PRE}(?:\.{_PRE})*))?"
    r"(?:\+[0-9A-Za-z-]+(?:\.[0-9A-Za-z-]+)*)?)?)?"
)
_HYPHEN = regex(rf"^{_PARTIAL}\s+-\s+{_PARTIAL}\s*$")
_COMPARATOR = regex(rf"^(~>?|\^|[<>]?=?){_PARTIAL}$")
_Pre: TypeAlias = tuple[int | str, ...]


class Version(Struct, frozen=True):
    """Major, minor, patch, and the identifiers of a pre-release (none for a release)."""

    major: int
    minor: int
    patch: int
    pre: _Pre = ()

    @property
    def numbers(self) -> tuple[int, int, int]:
        """The three numbers."""
        return self.major, self.minor, self.patch

    @property
    def key(self) -> tuple[object, ...]:
        """Sorts as SemVer 11 says: a pre-release before its release, numbers before words."""
        pre = tuple((0, one, "") if isinstance(one, int) else (1, 0, one) for one in self.pre)
        return (*self.numbers, not self.pre, pre)

    def __str__(self) -> str:
        pre = ".".join(map(str, self.pre))
        return ".".join(map(str, self.numbers)) + (f"-{pre}" if pre else "")


class _Bound(Struct, frozen=True):
    operator: str
    version: Version

    def holds(self, version: Version) -> bool:
        mine, theirs = version.key, self.version.key
        if self.operator == ">=":
            return mine >= theirs
        if self.operator == ">":
            return mine > theirs
        if self.operator == "<=":
            return mine <= theirs
        if self.operator == "<":
            return mine < theirs
        return mine == theirs


_ANY_RELEASE = _Bound(">=", Version(0, 0, 0))
_NEVER = (_Bound("<", Version(0, 0, 0, (0,))),)


def _pre(text: str | None) -> _Pre:
    return tuple(int(one) if one.isdigit() else one for one in text.split(".")) if text else ()


@lru_cache(maxsize=65_536)
def parse_version(text: str) -> Version | None:
    """The version in a text, or None if it is none (or a number in it is past 2^53 - 1)."""
    match = _VERSION.match(text.strip()) if len(text) <= 256 else None
    if not match:
        return None
    numbers = [int(match.group(place)) for place in (1, 2, 3)]
    if max(numbers) > _LARGEST:
        return None
    return Version(numbers[0], numbers[1], numbers[2], _pre(match.group(4)))


def is_range(text: str) -> bool:
    """Whether a text is a range of this grammar (a tag or an address is not)."""
    return _range(text) is not None


def admits(range_text: str, version_text: str) -> bool:
    """Whether a range admits a version; False where either is none."""
    version, wanted = parse_version(version_text), _range(range_text)
    return version is not None and wanted is not None and any(_all_hold(bounds, version) for bounds in wanted)


def best(range_text: str, versions: list[str]) -> str | None:
    """The newest of the versions that a range admits, or None."""
    fitting = [version for version in versions if admits(range_text, version)]
    return max(fitting, key=order) if fitting else None


def order(text: str) -> tuple[object, ...]:
    """A key that sorts versions, the newest last; what is no version comes first."""
    version = parse_version(text)
    return version.key if version else (-1, 0, 0, False, ())


def _all_hold(bounds: tuple[_Bound, ...], version: Version) -> bool:
    if not all(bound.holds(version) for bound in bounds):
        return False
    if not version.pre:
        return True
    return any(bound.version.pre and bound.version.numbers == version.numbers for bound in bounds)


@lru_cache(maxsize=65_536)
def _range(text: str) -> tuple[tuple[_Bound, ...], ...] | None:
    """The alternatives of a range, each a set of bounds that must all hold; None if it is none. Where one of
    them admits every release, the others count for nothing, not even for the pre-releases that they name."""
    alternatives = []
    for part in text.split("||"):
        bounds = _alternative(part)
        if bounds is None:
            return None
        alternatives.append(tuple(bound for bound in bounds if bound != _ANY_RELEASE))
    return ((),) if () in alternatives else tuple(alternatives)


def _alternative(text: str) -> tuple[_Bound, ...] | None:
    hyphen = _HYPHEN.match(text)
    if hyphen:
        groups = hyphen.groups()
        return (*_lower(">=", groups[:4]), *_upper_of_hyphen(groups[4:]))
    spaced = re.sub(r"(~>?|\^|[<>]=?|=)\s+", r"\1", text.strip())
    bounds: list[_Bound] = []
    for word in spaced.split():
        match = _COMPARATOR.match(word)
        if not match:
            return None
        made = _bounds(match.group(1), match.groups()[1:])
        if made is None:
            return None
        bounds += made
    return tuple(bounds)


_Groups: TypeAlias = "tuple[str | None, ...]"


def _is_x(piece: str | None) -> bool:
    return piece is None or piece in "xX*"


def _numbers(groups: _Groups) -> list[int]:
    """Major, minor and patch; all after an open place are zero."""
    numbers: list[int] = []
    for piece in groups[:3]:
        open_place = _is_x(piece) or (bool(numbers) and _is_x(groups[len(numbers) - 1]))
        numbers.append(0 if open_place else int(piece or 0))
    return numbers


def _pre_of(groups: _Groups) -> _Pre:
    """The pre-release of a version without open places."""
    return () if any(_is_x(piece) for piece in groups[:3]) else _pre(groups[3])


def _bounds(operator: str, groups: _Groups) -> list[_Bound] | None:
    """The bounds of one comparator; None where a number in it is too large."""
    major, minor, patch = _numbers(groups)
    if max(major, minor, patch) > _LARGEST:
        return None
    if operator in ("~", "~>"):
        return _tilde(groups, major, minor, patch)
    if operator == "^":
        return _caret(groups, major, minor, patch)
    if (_is_x(groups[0]) and not _is_x(groups[1])) or (_is_x(groups[1]) and not _is_x(groups[2])):
        return None  # a number after a place that is open
    return _plain(operator, groups, major, minor, patch)


def _tilde(groups: _Groups, major: int, minor: int, patch: int) -> list[_Bound]:
    if _is_x(groups[0]):
        return []
    first = _Bound(">=", Version(major, minor, patch, _pre_of(groups)))
    if _is_x(groups[1]):
        return [first, _below(major + 1, 0, 0)]
    return [first, _below(major, minor + 1, 0)]


def _caret(groups: _Groups, major: int, minor: int, patch: int) -> list[_Bound]:
    if _is_x(groups[0]):
        return []
    first = _Bound(">=", Version(major, minor, patch, _pre_of(groups)))
    if _is_x(groups[1]):
        return [first, _below(major + 1, 0, 0)]
    if _is_x(groups[2]):
        return [first, _below(major, minor + 1, 0) if major == 0 else _below(major + 1, 0, 0)]
    if major:
        return [first, _below(major + 1, 0, 0)]
    if minor:
        return [first, _below(0, minor + 1, 0)]
    return [first, _below(0, 0, patch + 1)]


def _below(major: int, minor: int, patch: int) -> _Bound:
    return _Bound("<", Version(major, minor, patch, (0,)))


def _plain(operator: str, groups: _Groups, major: int, minor: int, patch: int) -> list[_Bound]:
    unknown_minor = _is_x(groups[0]) or _is_x(groups[1])
    unknown_patch = unknown_minor or _is_x(groups[2])
    if not unknown_patch:
        exact = Version(major, minor, patch, _pre(groups[3]))
        return [_Bound(operator if operator not in ("", "=") else "=", exact)]
    if operator == "=":
        operator = ""
    if _is_x(groups[0]):
        return list(_NEVER) if operator in ("<", ">") else []
    if operator == ">":
        after = Version(major + 1, 0, 0) if unknown_minor else Version(major, minor + 1, 0)
        return [_Bound(">=", after)]
    if operator == "<=":
        return [_below(major + 1, 0, 0) if unknown_minor else _below(major, minor + 1, 0)]
    if operator == "<":
        return [_below(major, 0 if unknown_minor else minor, 0)]
    if operator == ">=":
        return [_Bound(">=", Version(major, 0 if unknown_minor else minor, 0))]
    first = Version(major, 0 if unknown_minor else minor, 0)
    return [_Bound(">=", first), _below(major + 1, 0, 0) if unknown_minor else _below(major, minor + 1, 0)]


def _lower(operator: str, groups: _Groups) -> list[_Bound]:
    if _is_x(groups[0]):
        return []
    major, minor, patch = _numbers(groups)
    return [_Bound(operator, Version(major, minor, patch, _pre_of(groups)))]


def _upper_of_hyphen(groups: _Groups) -> list[_Bound]:
    if _is_x(groups[0]):
        return []
    major, minor, patch = _numbers(groups)
    if _is_x(groups[1]):
        return [_below(major + 1, 0, 0)]
    if _is_x(groups[2]):
        return [_below(major, minor + 1, 0)]
    return [_Bound("<=", Version(major, minor, patch, _pre(groups[3])))]
