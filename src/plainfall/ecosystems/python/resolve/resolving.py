"""From wishes to pins: versions chosen so that every requirement holds, newest first.

The search is resolvelib's; this module provides what it must know: which versions there are, what each
requires, and in which order to decide.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from packaging.requirements import InvalidRequirement, Requirement
from packaging.specifiers import InvalidSpecifier, SpecifierSet
from packaging.utils import canonicalize_name
from packaging.version import Version
from resolvelib import AbstractProvider
from resolvelib.resolvers import RequirementInformation

from plainfall.ecosystems.python.lists.pins import Target
from plainfall.ecosystems.python.lists.requirements import RequirementLine
from plainfall.ecosystems.python.resolve.conflicts import conflict
from plainfall.ecosystems.python.resolve.finding import Finder
from plainfall.ecosystems.python.resolve.metadata import MetadataSource
from plainfall.ecosystems.python.resolve.offered_versions import OfferedVersions
from plainfall.ecosystems.python.resolve.simple import IndexFile
from plainfall.ecosystems.python.resolve.wishes import PYTHON, Candidate, Direct, Wish
from plainfall.ecosystems.shared.searching import searched
from plainfall.errors import DependencyProblem
from plainfall.evidence import Evidence
from plainfall.packages.search_limit import SearchLimit

__all__ = ["Direct", "Resolved", "resolve"]


@dataclass(frozen=True)
class Resolved:
    """One chosen package: its archives on the index (none for a direct one), and the line of the project's
    own that asked for it first, if one did."""

    name: str
    version: str
    files: tuple[IndexFile, ...]
    evidence: Evidence | None
    direct: Direct | None = None


def resolve(
    wishes: Sequence[RequirementLine],
    constraints: Sequence[RequirementLine],
    directs: Mapping[int, Direct],
    finder: Finder,
    metadata: MetadataSource,
    target: Target,
    *,
    prereleases: bool = False,
    instead: Mapping[str, str] | None = None,
    rather: Sequence[str] = (),
) -> list[Resolved]:
    """The packages for the wishes, sorted by name.

    ``directs`` holds the resolved references among the wishes, by position. ``instead`` maps
    names to versions that are taken whatever is asked; versions that a wish of ``rather`` admits come before
    others. Raises DependencyProblem in terms of the project's
    own lines if no set of versions satisfies all.
    """
    limit = SearchLimit()
    provider = _Provider(
        constraints, finder, metadata, target, limit, prereleases, dict(instead or {}), rather
    )
    roots: list[Wish] = []
    for position, line in enumerate(wishes):
        roots += provider.roots(line, directs.get(position))
    finder.prefetch([wish.name for wish in roots])
    state = searched(
        provider,
        lambda causes: conflict(causes, finder, provider.limits, target),
        roots,
        limit,
        next((wish.line.evidence for wish in roots if wish.line), None),
        "Pin some of the packages to narrow the search.",
    )
    places = {wish.name: wish.line.evidence for wish in reversed(roots) if wish.line}
    return [
        Resolved(result.name, str(result.version), result.files, places.get(result.name), result.direct)
        for (name, extra), result in sorted(_led_to(state.mapping, state.criteria).items())
        if not extra and name != PYTHON
    ]


def _led_to(
    chosen: Mapping[tuple[str, str], Candidate], criteria: Mapping[tuple[str, str], Any]
) -> dict[tuple[str, str], Candidate]:
    """What the wishes lead to, of all that was chosen on the way: where a version was given up for another,
    what only the first one needed still exists. (The library's own way to tell does not come to an end
    where such left-overs need each other.)"""
    keys = {id(candidate): key for key, candidate in chosen.items()}
    below: dict[tuple[str, str] | None, list[tuple[str, str]]] = {}
    for key, criterion in criteria.items():
        for parent in criterion.iter_parent():
            if parent is None or id(parent) in keys:
                below.setdefault(None if parent is None else keys[id(parent)], []).append(key)
    led: dict[tuple[str, str], Candidate] = {}
    waiting = list(below.get(None, ()))
    while waiting:
        key = waiting.pop()
        if key not in led and key in chosen:
            led[key] = chosen[key]
            waiting += below.get(key, ())
    return led


class _Provider(AbstractProvider[Wish, Candidate, tuple[str, str]]):
    def __init__(
        self,
        constraints: Sequence[RequirementLine],
        finder: Finder,
        metadata: MetadataSource,
        target: Target,
        limit: SearchLimit,
        prereleases: bool,
        instead: dict[str, str],
        rather: Sequence[str],
    ) -> None:
        self._finder = finder
        self._metadata = metadata
        self._target = target
        self._prereleases = prereleases
        self._instead = instead
        wishes = [Requirement(text) for text in rather]
        self._rather: dict[str, SpecifierSet] = {canonicalize_name(one.name): one.specifier for one in wishes}
        self._directs: dict[str, Direct] = {}
        self._limit = limit
        self._offers: dict[str, OfferedVersions] = {}
        self._candidates: dict[tuple[str, str, Version], Candidate] = {}
        self._dependencies: dict[Candidate, list[Wish]] = {}
        self._satisfied: dict[tuple[str, Version], bool] = {}
        self._held: dict[tuple[int, str], tuple[Requirement, bool]] = {}
        self._causes: Sequence[RequirementInformation[Wish, Candidate]] = ()
        self._in_conflict: set[str] = set()
        self.limits: dict[str, list[RequirementLine]] = {}
        for line in constraints:
            self.limits.setdefault(line.name, []).append(line)

    def roots(self, line: RequirementLine, direct: Direct | None) -> list[Wish]:
        """The wishes of one line: its package, and each of its extras."""
        requirement = line.requirement
        if direct is not None:
            self._directs[direct.name] = direct
            extras = requirement.extras if requirement else set()
            requirement = Requirement(f"{direct.name}=={direct.comparable}")
            requirement.extras = set(extras)
        assert requirement is not None  # a bare reference is always resolved already
        return list(self._wishes(requirement, line, "the project"))

    def _wishes(self, requirement: Requirement, line: RequirementLine | None, parent: str) -> Iterator[Wish]:
        name = canonicalize_name(requirement.name)
        if requirement.url and name not in self._directs:
            raise DependencyProblem(
                f"{parent} wants {requirement}, a direct reference that the project does not list itself",
                remedy=f"Add that line to the project's own list: {requirement}",
            )
        for extra in ("", *sorted(canonicalize_name(extra) for extra in requirement.extras)):
            yield Wish(requirement, name, extra, line, parent)

    def identify(self, requirement_or_candidate: Wish | Candidate) -> tuple[str, str]:
        return requirement_or_candidate.name, requirement_or_candidate.extra

    def get_preference(
        self,
        identifier: tuple[str, str],
        resolutions: Mapping[tuple[str, str], Candidate],
        candidates: Mapping[tuple[str, str], Iterator[Candidate]],
        information: Mapping[tuple[str, str], Iterator[RequirementInformation[Wish, Candidate]]],
        backtrack_causes: Sequence[RequirementInformation[Wish, Candidate]],
    ) -> tuple[Any, ...]:
        wishes = [one.requirement for one in information[identifier]]
        operators = frozenset().union(*[wish.operators for wish in wishes])
        if backtrack_causes is not self._causes:
            self._causes = backtrack_causes
            self._in_conflict = {one.requirement.name for one in backtrack_causes}
            self._in_conflict |= {one.parent.name for one in backtrack_causes if one.parent}
        return (
            identifier[0] not in self._directs,
            identifier[0] not in self._in_conflict,
            not operators & {"==", "==="},
            not any(wish.line for wish in wishes),
            not operators,
            identifier,
        )

    def find_matches(
        self,
        identifier: tuple[str, str],
        requirements: Mapping[tuple[str, str], Iterator[Wish]],
        incompatibilities: Mapping[tuple[str, str], Iterator[Candidate]],
    ) -> Iterable[Candidate]:
        name, extra = identifier
        if name == PYTHON:
            here = Candidate(name, Version(self._target.markers["python_full_version"].rstrip("+")), "")
            return [here] if all(self.is_satisfied_by(one, here) for one in requirements[identifier]) else []
        # Each extra of a package shares the package's own requirements, so that both get one version.
        wishes = [w for key in {(name, ""), identifier} for w in requirements.get(key, iter(()))]
        bad = {candidate.version for candidate in incompatibilities[identifier]}
        if name in self._directs:
            direct = self._directs[name]
            result = Candidate(name, direct.comparable, extra, (), direct)
            return [] if result.version in bad else [result]
        if name in self._instead:
            specifiers = [f"=={self._instead[name]}"]
        else:
            specifiers = [wish.specifier for wish in wishes]
            limits = self.limits.get(name, ())
            specifiers += [str(limit.requirement.specifier) for limit in limits if limit.requirement]
        admitted = self._offer(name).admitted(specifiers, prereleases=self._prereleases)
        if name in self._rather:
            wished = self._rather[name]
            admitted.sort(key=lambda version: not wished.contains(version, prereleases=True))
        return [self._candidate(name, extra, version) for version in admitted if version not in bad]

    def _offer(self, name: str) -> OfferedVersions:
        if name not in self._offers:
            with self._limit.reading():
                self._offers[name] = OfferedVersions(self._finder.versions(name))
        return self._offers[name]

    def _candidate(self, name: str, extra: str, version: Version) -> Candidate:
        key = name, extra, version
        if key not in self._candidates:
            self._candidates[key] = Candidate(
                name, version, extra, tuple(self._finder.versions(name)[version])
            )
        return self._candidates[key]

    def is_satisfied_by(self, requirement: Wish, candidate: Candidate) -> bool:
        if candidate.name in self._instead or (candidate.direct is not None and requirement.requirement.url):
            return True
        key = requirement.specifier, candidate.version
        if key not in self._satisfied:
            specifier = requirement.requirement.specifier
            self._satisfied[key] = specifier.contains(candidate.version, prereleases=True)
        return self._satisfied[key]

    def get_dependencies(self, candidate: Candidate) -> Iterable[Wish]:
        if candidate not in self._dependencies:
            wishes = self._dependencies[candidate] = self._wishes_of(candidate)
            self._finder.prefetch([wish.name for wish in wishes if wish.name != PYTHON])
        return self._dependencies[candidate]

    def _wishes_of(self, candidate: Candidate) -> list[Wish]:
        label = f"{candidate.name} {candidate.version}"
        wishes: list[Wish] = []
        if candidate.name == PYTHON:
            return wishes
        if candidate.direct is not None:
            requires: Sequence[Requirement] = candidate.direct.requires
        else:
            with self._limit.reading():
                known = self._metadata.of(self._finder.best(candidate.files))
            requires = known.requires
            python = _for_python(known.python)
            if python is not None:
                wishes.append(Wish(python, PYTHON, "", None, label))
        if candidate.extra:
            same = Requirement(f"{candidate.name}=={candidate.version}")
            wishes.append(Wish(same, candidate.name, "", None, label))
        for requirement in requires:
            if self._holds(requirement, candidate.extra):
                wishes.extend(self._wishes(requirement, None, label))
        return wishes

    def _holds(self, requirement: Requirement, extra: str) -> bool:
        """Whether a requirement of a package counts here, for one of its extras ("": for the package itself)."""
        key = id(requirement), extra
        if key not in self._held:  # the requirement is kept with the answer, so that no other gets its number
            marker = requirement.marker
            with_extra = marker is not None and "extra" in str(marker)
            holds = bool(extra) == with_extra and (
                marker is None or marker.evaluate({**self._target.markers, "extra": extra})
            )
            self._held[key] = requirement, holds
        return self._held[key][1]


def _for_python(text: str) -> Requirement | None:
    """A package's wish for a version of Python; None for none, and for one that cannot be read: it was published
    before anybody checked that."""
    try:
        return Requirement(f"python{SpecifierSet(text)}") if text else None
    except (InvalidSpecifier, InvalidRequirement):
        return None
