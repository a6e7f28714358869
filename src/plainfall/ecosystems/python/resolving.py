"""From wishes to pins: versions chosen so that every requirement holds, newest first.

The search is resolvelib's; this module provides what it must know: which versions there are, what each
requires, and in which order to decide.
"""

from __future__ import annotations

import time
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

from packaging.requirements import InvalidRequirement, Requirement
from packaging.specifiers import InvalidSpecifier, SpecifierSet
from packaging.utils import canonicalize_name
from packaging.version import Version
from resolvelib import AbstractProvider, BaseReporter, ResolutionImpossible
from resolvelib.resolvers import RequirementInformation, Resolution, ResolutionTooDeep

from plainfall.ecosystems.python.finding import Finder
from plainfall.ecosystems.python.metadata import MetadataSource
from plainfall.ecosystems.python.pins import Target
from plainfall.ecosystems.python.requirements import RequirementLine
from plainfall.ecosystems.python.simple import IndexFile
from plainfall.errors import DependencyProblem
from plainfall.evidence import Evidence

__all__ = ["Direct", "Resolved", "resolve"]

_DEEPEST = 20_000
_SECONDS, _SECONDS_A_PACKAGE = 60.0, 0.1  # of processor time: sets of 160 packages took 30 s here
_PYTHON = "python/itself"  # no package has such a name: what packages want of the Python stands under it


@dataclass(frozen=True)
class Direct:
    """A package that comes from a reference, and was obtained before resolving: what it says of itself."""

    name: str
    version: str
    requires: tuple[Requirement, ...]
    evidence: Evidence


@dataclass(frozen=True)
class Resolved:
    """One chosen package: its archives on the index (none for a direct one), and the line of the project's
    own that asked for it first, if one did."""

    name: str
    version: str
    files: tuple[IndexFile, ...]
    evidence: Evidence | None
    direct: Direct | None = None


@dataclass(frozen=True)
class _Wish:
    requirement: Requirement
    name: str
    extra: str
    line: RequirementLine | None
    parent: str

    def wording(self) -> str:
        """The wish in words, by the project's own line if it is one."""
        if self.line is not None:
            return f"{self.line.evidence} wants {self.requirement}"
        return f"{self.parent} wants {self.requirement}"


@dataclass(frozen=True)
class _Candidate:
    name: str
    version: Version
    extra: str
    files: tuple[IndexFile, ...] = field(compare=False, default=())
    direct: Direct | None = field(compare=False, default=None)


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
    provider = _Provider(constraints, finder, metadata, target, prereleases, dict(instead or {}), rather)
    roots: list[_Wish] = []
    for position, line in enumerate(wishes):
        roots += provider.roots(line, directs.get(position))
    finder.prefetch([wish.name for wish in roots])
    resolution: Resolution[_Wish, _Candidate, tuple[str, str]] = Resolution(provider, BaseReporter())
    try:
        with provider.limited():
            state = resolution.resolve(roots, max_rounds=_DEEPEST)
    except ResolutionImpossible as error:
        raise provider.explained(error.causes) from error
    except ResolutionTooDeep as error:
        raise DependencyProblem(
            "no set of versions was found in the time and the rounds that a search is given "
            f"({_SECONDS:.0f} s of processor time and more for many packages, {_DEEPEST:,} rounds)",
            remedy="Pin some of the packages to narrow the search.",
        ) from error
    places = {wish.name: wish.line.evidence for wish in reversed(roots) if wish.line}
    return [
        Resolved(result.name, str(result.version), result.files, places.get(result.name), result.direct)
        for (name, extra), result in sorted(_led_to(state.mapping, state.criteria).items())
        if not extra and name != _PYTHON
    ]


def _led_to(
    chosen: Mapping[tuple[str, str], _Candidate], criteria: Mapping[tuple[str, str], Any]
) -> dict[tuple[str, str], _Candidate]:
    """What the wishes lead to, of all that was chosen on the way: where a version was given up for another,
    what only the first one needed still exists. (The library's own way to tell does not come to an end
    where such left-overs need each other.)"""
    keys = {id(candidate): key for key, candidate in chosen.items()}
    below: dict[tuple[str, str] | None, list[tuple[str, str]]] = {}
    for key, criterion in criteria.items():
        for parent in criterion.iter_parent():
            if parent is None or id(parent) in keys:
                below.setdefault(None if parent is None else keys[id(parent)], []).append(key)
    led: dict[tuple[str, str], _Candidate] = {}
    waiting = list(below.get(None, ()))
    while waiting:
        key = waiting.pop()
        if key not in led and key in chosen:
            led[key] = chosen[key]
            waiting += below.get(key, ())
    return led


class _Provider(AbstractProvider[_Wish, _Candidate, tuple[str, str]]):
    def __init__(
        self,
        constraints: Sequence[RequirementLine],
        finder: Finder,
        metadata: MetadataSource,
        target: Target,
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
        self._begun: float | None = None
        self._packages: set[str] = set()
        self._limits: dict[str, list[RequirementLine]] = {}
        for line in constraints:
            self._limits.setdefault(line.name, []).append(line)

    @contextmanager
    def limited(self) -> Iterator[None]:
        """While the block runs a search that takes too much of the processor ends with ResolutionTooDeep."""
        self._begun = time.thread_time()
        try:
            yield
        finally:
            self._begun = None

    def _check_time(self, name: str) -> None:
        self._packages.add(name)
        allowed = _SECONDS + _SECONDS_A_PACKAGE * len(self._packages)
        if self._begun is not None and time.thread_time() - self._begun > allowed:
            raise ResolutionTooDeep(_DEEPEST)

    def roots(self, line: RequirementLine, direct: Direct | None) -> list[_Wish]:
        """The wishes of one line: its package, and each of its extras."""
        requirement = line.requirement
        if direct is not None:
            self._directs[direct.name] = direct
            extras = requirement.extras if requirement else set()
            requirement = Requirement(f"{direct.name}=={direct.version}")
            requirement.extras = set(extras)
        assert requirement is not None  # a bare reference is always resolved already
        return list(self._wishes(requirement, line, "the project"))

    def _wishes(self, requirement: Requirement, line: RequirementLine | None, parent: str) -> Iterator[_Wish]:
        name = canonicalize_name(requirement.name)
        if requirement.url and name not in self._directs:
            raise DependencyProblem(
                f"{parent} wants {requirement}, a direct reference that the project does not list itself",
                remedy=f"Add that line to the project's own list: {requirement}",
            )
        for extra in ("", *sorted(canonicalize_name(extra) for extra in requirement.extras)):
            yield _Wish(requirement, name, extra, line, parent)

    def identify(self, requirement_or_candidate: _Wish | _Candidate) -> tuple[str, str]:
        return requirement_or_candidate.name, requirement_or_candidate.extra

    def get_preference(
        self,
        identifier: tuple[str, str],
        resolutions: Mapping[tuple[str, str], _Candidate],
        candidates: Mapping[tuple[str, str], Iterator[_Candidate]],
        information: Mapping[tuple[str, str], Iterator[RequirementInformation[_Wish, _Candidate]]],
        backtrack_causes: Sequence[RequirementInformation[_Wish, _Candidate]],
    ) -> tuple[Any, ...]:
        wishes = [one.requirement for one in information[identifier]]
        operators = {spec.operator for wish in wishes for spec in wish.requirement.specifier}
        in_conflict = any(
            identifier[0] in (one.requirement.name, one.parent.name if one.parent else "")
            for one in backtrack_causes
        )
        return (
            identifier[0] not in self._directs,
            not in_conflict,
            not operators & {"==", "==="},
            not any(wish.line for wish in wishes),
            not operators,
            identifier,
        )

    def find_matches(
        self,
        identifier: tuple[str, str],
        requirements: Mapping[tuple[str, str], Iterator[_Wish]],
        incompatibilities: Mapping[tuple[str, str], Iterator[_Candidate]],
    ) -> Iterable[_Candidate]:
        name, extra = identifier
        self._check_time(name)
        if name == _PYTHON:
            here = _Candidate(name, Version(self._target.markers["python_full_version"].rstrip("+")), "")
            return [here] if all(self.is_satisfied_by(one, here) for one in requirements[identifier]) else []
        # Each extra of a package shares the package's own requirements, so that both get one version.
        wishes = [w for key in {(name, ""), identifier} for w in requirements.get(key, iter(()))]
        bad = {candidate.version for candidate in incompatibilities[identifier]}
        if name in self._directs:
            direct = self._directs[name]
            result = _Candidate(name, Version(direct.version), extra, (), direct)
            return [] if result.version in bad else [result]
        specifier = SpecifierSet()
        for wish in wishes:
            specifier &= wish.requirement.specifier
        for limit in self._limits.get(name, []):
            specifier &= limit.requirement.specifier if limit.requirement else SpecifierSet()
        if name in self._instead:
            specifier = SpecifierSet(f"=={self._instead[name]}")
        by_version = self._finder.versions(name)
        admitted = self._admitted(specifier, by_version)
        if name in self._rather:
            wished = self._rather[name]
            admitted.sort(key=lambda version: not wished.contains(version, prereleases=True))
        return [_Candidate(name, v, extra, tuple(by_version[v])) for v in admitted if v not in bad]

    def _admitted(
        self, specifier: SpecifierSet, by_version: Mapping[Version, Sequence[IndexFile]]
    ) -> list[Version]:
        """The versions that a specifier admits, newest first, by the rules for pre-releases (PEP 440) and
        withdrawn files (PEP 592: only for an exact pin)."""
        exact = any(spec.operator in ("==", "===") and "*" not in spec.version for spec in specifier)
        usable = [
            version
            for version, files in by_version.items()
            if exact or any(file.yanked is None for file in files)
        ]
        wanted = True if self._prereleases else None
        return sorted(specifier.filter(usable, prereleases=wanted), reverse=True)

    def is_satisfied_by(self, requirement: _Wish, candidate: _Candidate) -> bool:
        if candidate.name in self._instead or (candidate.direct is not None and requirement.requirement.url):
            return True
        return requirement.requirement.specifier.contains(candidate.version, prereleases=True)

    def get_dependencies(self, candidate: _Candidate) -> Iterable[_Wish]:
        label = f"{candidate.name} {candidate.version}"
        wishes: list[_Wish] = []
        if candidate.name == _PYTHON:
            return wishes
        if candidate.direct is not None:
            requires: Sequence[Requirement] = candidate.direct.requires
        else:
            known = self._metadata.of(self._finder.best(candidate.files))
            requires = known.requires
            python = _for_python(known.python)
            if python is not None:
                wishes.append(_Wish(python, _PYTHON, "", None, label))
        if candidate.extra:
            same = Requirement(f"{candidate.name}=={candidate.version}")
            wishes.append(_Wish(same, candidate.name, "", None, label))
        for requirement in requires:
            marker = requirement.marker
            with_extra = marker is not None and "extra" in str(marker)
            if bool(candidate.extra) != with_extra:
                continue
            if marker is None or marker.evaluate({**self._target.markers, "extra": candidate.extra}):
                wishes.extend(self._wishes(requirement, None, label))
        self._finder.prefetch([wish.name for wish in wishes if wish.name != _PYTHON])
        return wishes

    def explained(self, causes: Collection[RequirementInformation[_Wish, _Candidate]]) -> DependencyProblem:
        """The conflict in words, with the lines of the project that lead to it."""
        names = sorted({cause.requirement.name for cause in causes} - {_PYTHON})
        if not names:
            return self._no_python(causes)
        name = names[0]
        text = list(dict.fromkeys(cause.requirement.wording() for cause in causes))
        limits = [f"{line.evidence} limits it to {line.requirement}" for line in self._limits.get(name, [])]
        places = [cause.requirement.line.evidence for cause in causes if cause.requirement.line]
        offered = sorted(self._finder.versions(name), reverse=True)
        if not self._finder.offered(name):
            raise self._finder.unknown(name, places[0] if places else None, text)
        shown = ", ".join(str(version) for version in offered[:6]) or "none that fit this Python and machine"
        return DependencyProblem(
            f"no version of {name} satisfies all that is asked of it",
            place=places[0] if places else None,
            lines=(*text, *limits, f"offered: {shown}"),
            remedy="Change one of the project's own lines above, or take one version for this clone with "
            f"--instead {name}==VERSION.",
        )

    def _no_python(self, causes: Collection[RequirementInformation[_Wish, _Candidate]]) -> DependencyProblem:
        """The conflict where packages want another Python than the one here."""
        here = self._target.markers["python_full_version"]
        lines = dict.fromkeys(cause.requirement.wording() for cause in causes)
        parents = [cause.parent for cause in causes if cause.parent is not None]
        names = ", ".join(sorted({f"{one.name} {one.version}" for one in parents}))
        return DependencyProblem(
            f"no version that is admitted of what is asked for runs on Python {here} ({names})",
            lines=tuple(lines),
            remedy="Use another Python (--runtime PATH), or admit other versions.",
        )


def _for_python(text: str) -> Requirement | None:
    """A package's wish for a version of Python; None for none, and for one that cannot be read: it was published
    before anybody checked that."""
    try:
        return Requirement(f"python{SpecifierSet(text)}") if text else None
    except (InvalidSpecifier, InvalidRequirement):
        return None
