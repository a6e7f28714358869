"""A search for versions with resolvelib: its limit, its errors in a project's words, and what the providers of
languages whose packages are found by name alone have alike."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Any, Generic, Protocol, TypeVar

from resolvelib import AbstractProvider, ResolutionImpossible
from resolvelib.resolvers import RequirementInformation, Resolution, ResolutionTooDeep
from resolvelib.structs import State

from plainfall.errors import DependencyProblem
from plainfall.evidence import Evidence
from plainfall.packages.search_limit import LIMIT_IN_WORDS, ROUNDS, SearchLimit

__all__ = ["NamedProvider", "conflict", "searched"]


class _Named(Protocol):
    @property
    def name(self) -> str: ...


_Wish = TypeVar("_Wish", bound=_Named)
_Candidate = TypeVar("_Candidate", bound=_Named)
_Key = TypeVar("_Key")


class NamedProvider(AbstractProvider[_Wish, _Candidate, str], Generic[_Wish, _Candidate]):
    """Packages by name; what is in conflict is decided first. The candidates of a package are read once
    (``read_candidates``), and that is not counted against the search's limit; ``refused`` says of each package
    which versions this machine cannot take, and why."""

    def __init__(self, limit: SearchLimit, read_candidates: Callable[[str], list[_Candidate]]) -> None:
        self._limit = limit
        self._read_candidates = read_candidates
        self._candidates: dict[str, list[_Candidate]] = {}
        self.refused: dict[str, list[str]] = {}

    def candidates_of(self, name: str) -> list[_Candidate]:
        """The versions of a package that this machine takes, the best first."""
        if name not in self._candidates:
            with self._limit.reading():
                self._candidates[name] = self._read_candidates(name)
        return self._candidates[name]

    def identify(self, requirement_or_candidate: _Wish | _Candidate) -> str:
        """Packages by name."""
        return requirement_or_candidate.name

    def get_preference(
        self,
        identifier: str,
        resolutions: Mapping[str, _Candidate],
        candidates: Mapping[str, Iterator[_Candidate]],
        information: Mapping[str, Iterator[RequirementInformation[_Wish, _Candidate]]],
        backtrack_causes: Sequence[RequirementInformation[_Wish, _Candidate]],
    ) -> tuple[Any, ...]:
        """What is in conflict, then by name."""
        return not any(identifier == one.requirement.name for one in backtrack_causes), identifier


def searched(
    provider: AbstractProvider[_Wish, _Candidate, _Key],
    explain: Callable[[list[RequirementInformation[_Wish, _Candidate]]], DependencyProblem],
    roots: Iterable[_Wish],
    limit: SearchLimit,
    place: Evidence | None,
    remedy: str,
) -> State[_Wish, _Candidate, _Key]:
    """The state in which every wish is met. Raises what ``explain`` makes of the causes where none is, and
    DependencyProblem with ``place`` and ``remedy`` where the search takes too long."""
    resolution: Resolution[_Wish, _Candidate, _Key] = Resolution(provider, limit)
    try:
        return resolution.resolve(roots, max_rounds=ROUNDS)
    except ResolutionImpossible as error:
        raise explain([*error.causes]) from error
    except ResolutionTooDeep as error:
        raise DependencyProblem(
            f"no set of versions was found within what a search may take ({LIMIT_IN_WORDS})",
            place=place,
            remedy=remedy,
        ) from error


def conflict(
    asked: Sequence[tuple[str, str]],
    refused: Mapping[str, Sequence[str]],
    unknown: Mapping[str, str],
    place: Evidence,
    remedy: str,
) -> DependencyProblem:
    """A conflict, by who asks for what: ``asked`` are packages with a line each, ``refused`` the versions that this
    machine cannot take, ``unknown`` packages that nobody has, in words."""
    lines = [line for _, line in asked]
    names = sorted({name for name, _ in asked})
    for name in names:
        if name in unknown:
            lines.append(unknown[name])
        elif refused.get(name):
            lines.append(f"{name}: {'; '.join(refused[name][:4])}")
    return DependencyProblem(
        f"no set of versions satisfies what is asked of {', '.join(names)}",
        place=place,
        lines=tuple(dict.fromkeys(lines)),
        remedy=remedy,
    )
