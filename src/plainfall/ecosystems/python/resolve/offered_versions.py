"""The versions that an index offers of one package, and which of them a set of specifiers admits (PEP 440, 592)."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Mapping, Sequence

from packaging.specifiers import Specifier, SpecifierSet
from packaging.version import Version

from plainfall.ecosystems.python.resolve.simple import IndexFile

__all__ = ["OfferedVersions"]


# Whether an operator admits each version of a newer release than the one that it names, and of an older one.
# Within that very release the library is asked: pre-releases, post-releases and local versions have rules of
# their own there.
_BEYOND = {">=": (True, False), ">": (True, False), "<=": (False, True), "<": (False, True)}
_BEYOND |= {"==": (False, False), "!=": (True, True)}


class OfferedVersions:
    """A search asks for the same specifiers in thousands of combinations: what one of them admits is kept as bits
    of a number, the oldest version first, and a combination is their conjunction."""

    def __init__(self, by_version: Mapping[Version, Sequence[IndexFile]]) -> None:
        self._versions = sorted(by_version)
        self._releases = [_release(version) for version in self._versions]
        self._all = (1 << len(self._versions)) - 1
        self._standing = _bits(any(f.yanked is None for f in by_version[v]) for v in self._versions)
        self._final = _bits(not version.is_prerelease for version in self._versions)
        self._read: dict[str, tuple[int, bool, bool]] = {}

    def admitted(self, specifiers: Sequence[str], *, prereleases: bool) -> list[Version]:
        """The versions that all specifiers admit, newest first. Withdrawn ones count only for an exact pin
        (PEP 592), pre-releases where they are wanted, where a specifier names one, and where there is nothing
        else (PEP 440).

        >>> file = IndexFile("rain-1.0.tar.gz", "https://registry.example/rain-1.0.tar.gz")
        >>> offered = OfferedVersions({Version(text): [file] for text in ("1.0", "1.1", "2.0b1")})
        >>> [str(version) for version in offered.admitted([">=1", "!=1.0"], prereleases=False)]
        ['1.1']
        """
        bits, exact, early = self._all, False, prereleases
        for text in specifiers:
            admitted, pins, names_prerelease = self._admits(text)
            bits, exact, early = bits & admitted, exact or pins, early or names_prerelease
        if not exact:
            bits &= self._standing
        if not early:
            bits = bits & self._final or bits
        result: list[Version] = []
        while bits:
            newest = bits.bit_length() - 1
            result.append(self._versions[newest])
            bits ^= 1 << newest
        return result

    def _admits(self, text: str) -> tuple[int, bool, bool]:
        """What one specifier admits, whether it is an exact pin, and whether it names a pre-release."""
        if text not in self._read:
            specifier = SpecifierSet(text)
            exact = any(spec.operator in ("==", "===") and "*" not in spec.version for spec in specifier)
            bits = self._all
            for spec in specifier:
                bits &= self._bits_of(spec)
            self._read[text] = bits, exact, bool(specifier.prereleases)
        return self._read[text]

    def _bits_of(self, spec: Specifier) -> int:
        if spec.operator not in _BEYOND or spec.version.endswith(".*"):
            return _bits(spec.contains(version, prereleases=True) for version in self._versions)
        release = _release(Version(spec.version))
        first, end = bisect_left(self._releases, release), bisect_right(self._releases, release)
        newer, older = _BEYOND[spec.operator]
        same = _bits(spec.contains(version, prereleases=True) for version in self._versions[first:end])
        bits = same << first
        if newer:
            bits |= self._all >> end << end
        return bits | ((1 << first) - 1) if older else bits


def _release(version: Version) -> tuple[int, tuple[int, ...]]:
    """Its epoch and its numbers, without zeros at the end, which do not count."""
    numbers = list(version.release)
    while numbers and numbers[-1] == 0:
        numbers.pop()
    return version.epoch, tuple(numbers)


def _bits(values: Iterable[bool]) -> int:
    return sum(1 << position for position, value in enumerate(values) if value)
