"""Versions for a Ruby part without a lock: the newest that fit together, this Ruby and this system."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

from msgspec import Struct
from resolvelib.resolvers import RequirementInformation

from plainfall.ecosystems.ruby.lists.locks import Lock, Locked, Source
from plainfall.ecosystems.ruby.resolve.index import Offer, Offers
from plainfall.ecosystems.ruby.resolve.versions import (
    Requirement,
    System,
    requirement,
    system,
    takes_system,
    version,
)
from plainfall.ecosystems.shared.searching import NamedProvider, conflict, searched
from plainfall.errors import DependencyProblem
from plainfall.evidence import Evidence
from plainfall.packages.search_limit import SearchLimit

__all__ = ["Asked", "Machine", "lock_text", "resolve"]


class Machine(Struct, frozen=True):
    """What packages may ask of the machine: versions of Ruby and of its loader, the system, and the packages that
    the runtime has, with what those need."""

    ruby: str
    rubygems: str
    system: System
    defaults: Mapping[str, str]
    needs: Mapping[str, Mapping[str, str]]


class Asked(Struct, frozen=True):
    """A package that the manifest asks for, by whom, and from which registry ("": those of the manifest)."""

    name: str
    rule: str
    place: Evidence
    registry: str = ""


class _Wish(Struct, frozen=True):
    name: str
    rule: Requirement
    parent: str


class _Candidate(Struct, frozen=True):
    name: str
    version: str
    needs: Mapping[str, str]
    offer: Offer | None = None

    def __hash__(self) -> int:
        return hash((self.name, self.version))


def resolve(
    asked: Sequence[Asked], given: Sequence[Locked], path: str, offers: Offers, machine: Machine
) -> list[Locked]:
    """The packages for a manifest, sorted by name, those that are given among them. Raises DependencyProblem in
    terms of the manifest where no set of versions satisfies all, and what asking raises."""
    offers.older = True
    limit = SearchLimit()
    registries = {one.name: one.registry for one in asked if one.registry}
    provider = _Provider(given, offers, machine, registries, limit)
    roots = [_Wish(one.name, requirement(one.rule), str(one.place)) for one in asked]
    roots += [_Wish(one.name, requirement(f"= {one.version}"), str(one.place)) for one in given]
    offers.prefetch([one.name for one in roots if one.name not in provider.given])
    state = searched(
        provider,
        lambda causes: provider.explained(causes, path),
        roots,
        limit,
        Evidence(path),
        "Narrow some of the requirements.",
    )
    found = []
    for name, one in sorted(state.mapping.items()):
        if name in provider.given:
            found.append(provider.given[name])
        elif one.offer is not None:
            source = Source("gem", (one.offer.registry,))
            needs, checksum = one.needs, one.offer.checksum
            found.append(Locked(name, one.version, one.offer.system, needs, source, Evidence(path), checksum))
        else:  # part of the runtime
            source = Source("gem", tuple(offers.registries[:1]))
            found.append(Locked(name, one.version, "ruby", one.needs, source, Evidence(path)))
    return found


class _Provider(NamedProvider[_Wish, _Candidate]):
    def __init__(
        self,
        given: Sequence[Locked],
        offers: Offers,
        machine: Machine,
        registries: Mapping[str, str],
        limit: SearchLimit,
    ) -> None:
        super().__init__(limit, self._read)
        self._satisfied: dict[tuple[Requirement, str], bool] = {}
        self.given = {one.name: one for one in given}
        self._offers = offers
        self._machine = machine
        self._registries = registries

    def find_matches(
        self,
        identifier: str,
        requirements: Mapping[str, Iterator[_Wish]],
        incompatibilities: Mapping[str, Iterator[_Candidate]],
    ) -> Iterable[_Candidate]:
        """What may be taken for a name, the best first; prereleases only where one is named."""
        wishes = list(requirements[identifier])
        refused = {one.version for one in incompatibilities[identifier]}
        early = any(wish.rule.is_prerelease for wish in wishes)
        fitting = [
            one
            for one in self.candidates_of(identifier)
            if one.version not in refused and all(self.is_satisfied_by(wish, one) for wish in wishes)
        ]
        finals = [
            one for one in fitting if early or one.offer is None or not version(one.version).is_prerelease
        ]
        return finals or fitting

    def is_satisfied_by(self, requirement: _Wish, candidate: _Candidate) -> bool:
        """Whether a candidate does for a requirement."""
        key = requirement.rule, candidate.version
        if key not in self._satisfied:
            self._satisfied[key] = requirement.rule.admits(version(candidate.version))
        return self._satisfied[key]

    def get_dependencies(self, candidate: _Candidate) -> list[_Wish]:
        """What a version needs."""
        label = f"{candidate.name} {candidate.version}"
        found = [
            _Wish(name, requirement(rule), label)
            for name, rule in candidate.needs.items()
            if name != "bundler"
        ]
        self._offers.prefetch([one.name for one in found if one.name not in self.given])
        return found

    def _read(self, name: str) -> list[_Candidate]:
        """The versions of a package that this machine takes, the newest first; of one that is given, that one."""
        if name in self.given:
            one = self.given[name]
            return [_Candidate(name, one.version, one.needs)]
        registry = self._registries.get(name, "")
        best: dict[str, Offer] = {}
        refused: list[str] = []
        for offer in self._offers.of(name, [registry] if registry else ()):
            reason = self._against(offer)
            if reason:
                refused.append(f"{offer.version} {reason}")
            elif offer.version not in best or best[offer.version].system == "ruby":
                best[offer.version] = offer
        self.refused[name] = refused
        ordered = sorted(best.values(), key=lambda one: version(one.version), reverse=True)
        if not ordered and name in self._machine.defaults:
            needs = self._machine.needs.get(name, {})
            return [_Candidate(name, self._machine.defaults[name], needs)]
        return [_Candidate(name, one.version, one.needs, one) for one in ordered]

    def _against(self, offer: Offer) -> str:
        machine = self._machine
        if not takes_system(machine.system, system(offer.system)):
            return f"is for {offer.system}"
        if not requirement(offer.ruby).admits(version(machine.ruby)):
            return f"needs Ruby {offer.ruby}"
        if not requirement(offer.rubygems).admits(version(machine.rubygems)):
            return f"needs the loader in version {offer.rubygems}"
        return ""

    def explained(
        self, causes: Sequence[RequirementInformation[_Wish, _Candidate]], path: str
    ) -> DependencyProblem:
        """The conflict, by who asks for what."""
        asked = [
            (
                one.requirement.name,
                f"{one.requirement.parent} asks for {one.requirement.name} {one.requirement.rule}",
            )
            for one in causes
        ]
        unknown = {
            name: f"no registry has {name}"
            for name, _ in asked
            if not self.candidates_of(name) and not self.refused.get(name)
        }
        remedy = "Change one of these requirements, or name the registry that has the package."
        return conflict(asked, self.refused, unknown, Evidence(path), remedy)


def _sections(packages: Sequence[Locked]) -> Iterator[tuple[Source, list[Locked]]]:
    order = {"git": 0, "path": 1, "gem": 2}
    sources: dict[tuple[Any, ...], tuple[Source, list[Locked]]] = {}
    for one in packages:
        key = (one.source.kind, one.source.remotes, one.source.revision)
        sources.setdefault(key, (one.source, []))[1].append(one)
    yield from sorted(sources.values(), key=lambda pair: (order.get(pair[0].kind, 3), pair[0].remotes))


def _shown(rule: str) -> str:
    """A requirement as it stands in a lock: its conditions sorted, the last first."""
    pieces = sorted((piece.strip() for piece in rule.split(",")), reverse=True)
    return "" if not rule or rule == ">= 0" else f" ({', '.join(pieces)})"


def lock_text(lock: Lock) -> str:
    """A lock as the ecosystem's own client writes it."""
    lines: list[str] = []
    for source, packages in _sections(lock.packages):
        lines += [source.kind.upper(), *(f"  remote: {one}" for one in source.remotes)]
        lines += [f"  revision: {source.revision}"] if source.revision else []
        lines += [f"  {key}: {value}" for key, value in sorted(source.options.items())]
        lines.append("  specs:")
        for one in sorted(packages, key=lambda one: one.full_name):
            stated = one.version if one.system == "ruby" else f"{one.version}-{one.system}"
            lines.append(f"    {one.name} ({stated})")
            for name, rule in sorted(one.needs.items()):
                lines.append(f"      {name}{_shown(rule)}")
        lines.append("")
    apart = {one.name for one in lock.packages if one.source.kind != "gem"}
    lines += ["PLATFORMS", *(f"  {one}" for one in lock.systems), "", "DEPENDENCIES"]
    for name, rule in sorted(lock.wishes.items()):
        lines.append(f"  {name}{_shown(rule)}{'!' if name in apart else ''}")
    lines += ["", "RUBY VERSION", f"   ruby {lock.ruby}"] if lock.ruby else []
    lines += ["", "BUNDLED WITH", f"   {lock.bundled_with}"] if lock.bundled_with else []
    return "\n".join([*lines, ""])
