"""From a manifest without a lock to one: versions chosen so that every requirement holds, newest first.

The search is resolvelib's. A package that another one replaces is a candidate of its own kind, which stands for
that other one in its very version, so that the two never come apart."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

from msgspec import Struct
from msgspec.structs import replace
from resolvelib.resolvers import RequirementInformation

from plainfall.ecosystems.php.lists.manifests import Locked, config_of, fingerprint, is_platform, mapping
from plainfall.ecosystems.php.resolve.registry import Offers
from plainfall.ecosystems.php.resolve.versions import (
    STABILITIES,
    Constraint,
    constraint,
    normalized,
    order,
    stability,
    stability_flag,
)
from plainfall.ecosystems.shared.searching import NamedProvider, conflict, searched
from plainfall.errors import DependencyProblem
from plainfall.evidence import Evidence
from plainfall.packages.search_limit import SearchLimit

__all__ = ["Machine", "lock_text", "resolve"]


class Machine(Struct, frozen=True):
    """What packages may ask of the machine: PHP's version, and the extensions with theirs."""

    php: str
    extensions: Mapping[str, str]


class _Wish(Struct, frozen=True):
    """A requirement: who asks for which versions of a package; ``by`` is a candidate that must stand for it."""

    name: str
    rule: Constraint
    parent: str
    by: tuple[str, str] = ("", "")


class _Candidate(Struct, frozen=True):
    """A version of a package, or (``by``: name and version) another package that stands for it, in the versions
    that ``rule`` says."""

    name: str
    version: str
    package: Locked
    by: tuple[str, str] = ("", "")
    rule: str = ""

    def __hash__(self) -> int:
        return hash((self.name, self.version, self.by))


def resolve(document: Mapping[str, Any], path: str, offers: Offers, machine: Machine) -> list[Locked]:
    """The packages for a manifest, sorted by name; those that only development needs are marked. Raises
    DependencyProblem in terms of the manifest where no set of versions satisfies all, and what asking raises."""
    limit = SearchLimit()
    provider = _Provider(document, path, offers, machine, limit)
    offers.lists()
    roots = provider.roots()
    offers.prefetch([one.name for one in roots])
    state = searched(
        provider, provider.explained, roots, limit, Evidence(path), "Narrow some of the constraints."
    )
    chosen = {name: one for name, one in state.mapping.items() if one.by == ("", "")}
    needed = _reached(state.mapping, [name.lower() for name in mapping(document.get("require"))])
    reached = _reached(state.mapping, [one.name for one in roots])
    return [
        replace(one.package, is_dev=name not in needed)
        for name, one in sorted(chosen.items())
        if name in reached
    ]


def _reached(found: Mapping[str, _Candidate], names: Iterable[str]) -> set[str]:
    """The packages that these lead to."""
    reached: set[str] = set()
    waiting = [name for name in names if name in found]
    while waiting:
        name = waiting.pop()
        if name in reached:
            continue
        reached.add(name)
        one = found[name]
        waiting += [one.by[0]] if one.by[0] else [other.lower() for other in one.package.requires]
        waiting = [other for other in waiting if other in found]
    return reached


def lock_text(document: Mapping[str, Any], packages: Sequence[Locked]) -> str:
    """The lock of these packages for a manifest."""
    require = {name: text for name, text in mapping(document.get("require")).items() if is_platform(name)}
    require_dev = {
        name: text for name, text in mapping(document.get("require-dev")).items() if is_platform(name)
    }
    return json.dumps(
        {
            "content-hash": fingerprint(document),
            "packages": [_entry(one) for one in packages if not one.is_dev],
            "packages-dev": [_entry(one) for one in packages if one.is_dev],
            "aliases": [],
            "minimum-stability": document.get("minimum-stability", "stable"),
            "stability-flags": {},
            "prefer-stable": document.get("prefer-stable", False),
            "prefer-lowest": False,
            "platform": require,
            "platform-dev": require_dev,
            "plugin-api-version": "2.3.0",
        },
        indent=4,
    )


def _entry(package: Locked) -> dict[str, Any]:
    return {key: one for key, one in package.entry.items() if key != "version_normalized"}


class _Provider(NamedProvider[_Wish, _Candidate]):
    def __init__(
        self, document: Mapping[str, Any], path: str, offers: Offers, machine: Machine, limit: SearchLimit
    ) -> None:
        super().__init__(limit, self._read)
        self._satisfied: dict[tuple[str, str], bool] = {}
        self._document, self._path, self._offers = document, path, offers
        pretended = mapping(config_of(document, "platform", {}))
        self._php = str(pretended.get("php") or machine.php)
        self._extensions = {**machine.extensions}
        self._extensions |= {name[4:]: str(one) for name, one in pretended.items() if name.startswith("ext-")}
        self._minimum = str(document.get("minimum-stability") or "stable")
        self._prefers_stable = bool(document.get("prefer-stable"))
        self._flags: dict[str, str] = {}
        self._stand_ins: dict[str, dict[tuple[str, str], _Candidate]] = {}

    def roots(self) -> list[_Wish]:
        """The manifest's own requirements."""
        found = []
        for table in ("require", "require-dev"):
            for name, wanted in mapping(self._document.get(table)).items():
                if is_platform(name):
                    continue
                text = str(wanted)
                try:
                    rule = constraint(text)
                except ValueError as error:
                    raise DependencyProblem(
                        f"{table}: {name}: {error}",
                        place=Evidence(self._path),
                        remedy='Write a constraint such as "^1.2".',
                    ) from error
                flag = stability_flag(text) or _stability_in(text)
                if flag:
                    self._flags[name.lower()] = flag
                found.append(_Wish(name.lower(), rule, f"{self._path} ({table})"))
        return found

    def get_preference(
        self,
        identifier: str,
        resolutions: Mapping[str, _Candidate],
        candidates: Mapping[str, Iterator[_Candidate]],
        information: Mapping[str, Iterator[RequirementInformation[_Wish, _Candidate]]],
        backtrack_causes: Sequence[RequirementInformation[_Wish, _Candidate]],
    ) -> tuple[Any, ...]:
        """What stands for another, then what is in conflict, then by name."""
        stands = any(one.requirement.by != ("", "") for one in information[identifier])
        usual = super().get_preference(identifier, resolutions, candidates, information, backtrack_causes)
        return (not stands, *usual)

    def find_matches(
        self,
        identifier: str,
        requirements: Mapping[str, Iterator[_Wish]],
        incompatibilities: Mapping[str, Iterator[_Candidate]],
    ) -> Iterable[_Candidate]:
        """What may be taken for a name, the best first."""
        wishes = list(requirements[identifier])
        refused = {(one.version, one.by) for one in incompatibilities[identifier]}
        stands = any(one.by != ("", "") for one in wishes)
        own = [] if stands else self.candidates_of(identifier)
        if not own and not stands:  # somebody may stand for it whom nobody has looked at yet
            for name in self._offers.asked():
                self.candidates_of(name)
        found = [*self._stand_ins.get(identifier, {}).values(), *own]
        return [
            one
            for one in found
            if (one.version, one.by) not in refused
            and all(self.is_satisfied_by(wish, one) for wish in wishes)
        ]

    def is_satisfied_by(self, requirement: _Wish, candidate: _Candidate) -> bool:
        """Whether a candidate does for a requirement."""
        if requirement.by != ("", ""):
            return candidate.by == requirement.by
        if candidate.by != ("", ""):
            return _overlap(requirement.rule, candidate.rule)
        key = requirement.rule.text, candidate.package.label
        if key not in self._satisfied:
            versions = _versions(candidate.package)
            self._satisfied[key] = any(requirement.rule.admits(version) for version in versions)
        return self._satisfied[key]

    def get_dependencies(self, candidate: _Candidate) -> list[_Wish]:
        """What a version needs; of what it replaces, that it stands for it itself."""
        if candidate.by != ("", ""):
            name, version = candidate.by
            return [_Wish(name, Constraint(version, ((("==", version),),)), f"{candidate.name} by {name}")]
        package = candidate.package
        found = []
        for name, wanted in package.requires.items():
            if not is_platform(name):
                text = package.normal if wanted == "self.version" else wanted
                found.append(_Wish(name.lower(), constraint(text), package.label))
        key = self._note_stand_ins(package)
        for name in mapping(package.entry.get("replace")):
            if not is_platform(name):
                found.append(_Wish(name.lower(), constraint("*"), package.label, key))
        self._offers.prefetch([one.name for one in found if one.by == ("", "")])
        return found

    def _note_stand_ins(self, package: Locked) -> tuple[str, str]:
        """Notes what a version stands for; returns by what it is known there."""
        key = (package.name.lower(), package.normal)
        for name, text in package.stands_for.items():
            if not is_platform(name):
                candidate = _Candidate(name, package.normal, package, key, text)
                self._stand_ins.setdefault(name, {})[key] = candidate
        return key

    def _read(self, name: str) -> list[_Candidate]:
        """The versions of a package that this machine and the wished stability allow, the best first."""
        lowest = STABILITIES.index(self._flags.get(name, self._minimum))
        fitting: list[Locked] = []
        refused: list[str] = []
        for one in self._offers.of(name):
            if STABILITIES.index(stability(one.normal)) > max(lowest, STABILITIES.index(self._minimum)):
                refused.append(f"{one.version} is not stable enough ({stability(one.normal)})")
            elif reason := self._against(one):
                refused.append(f"{one.version} {reason}")
            else:
                fitting.append(one)
        self.refused[name] = refused
        fitting.sort(key=lambda one: order(one.normal), reverse=True)  # type: ignore[arg-type, return-value]
        fitting.sort(key=lambda one: one.normal.startswith("dev-"))
        if self._prefers_stable:
            fitting.sort(key=lambda one: STABILITIES.index(stability(one.normal)))
        for one in fitting:
            self._note_stand_ins(one)
        return [_Candidate(name, one.normal, one) for one in fitting]

    def _against(self, package: Locked) -> str:
        """Why this machine cannot take a version; "" where it can."""
        for name, wanted in package.requires.items():
            lowered = name.lower()
            try:
                if lowered in ("php", "php-64bit") and not constraint(wanted).admits(
                    normalized(_plain(self._php))
                ):
                    return f"needs PHP {wanted}"
                rules = [] if wanted == "self.version" else [constraint(wanted)]
            except ValueError:
                return f"has a requirement that cannot be read: {name} {wanted}"
            if lowered.startswith("ext-") and lowered[4:] not in self._extensions:
                return f"needs the extension {lowered[4:]}"
            if lowered == "composer-plugin-api" and not any(one.admits("2.3.0.0") for one in rules):
                return "is for another generation of the package client"
        return ""

    def explained(self, causes: Sequence[RequirementInformation[_Wish, _Candidate]]) -> DependencyProblem:
        """The conflict, by who asks for what."""
        wishes = [one.requirement for one in causes]
        asked = [(one.name, f"{one.parent} asks for {one.name} {one.rule.text}") for one in wishes]
        unknown = {name: f"no repository has {name}" for name, _ in asked if not self._offers.of(name)}
        remedy = "Change one of these constraints, or name the repository that has the package."
        return conflict(asked, self.refused, unknown, Evidence(self._path), remedy)


def _plain(version: str) -> str:
    match = re.match(r"\d+\.\d+\.\d+", version)
    return match.group() if match else version


def _stability_in(text: str) -> str:
    """The stability of a version that a constraint names exactly."""
    if re.fullmatch(r"={0,2}v?[\w.+/-]+", text.strip()):
        found = stability(text.strip().lstrip("="))
        return "" if found == "stable" else found
    return ""


def _versions(package: Locked) -> Iterator[str]:
    """The versions that a package counts as: its own, and a branch's alias."""
    yield package.normal
    alias = mapping(mapping(package.entry.get("extra")).get("branch-alias")).get(package.version)
    if isinstance(alias, str):
        try:
            yield normalized(alias)
        except ValueError:
            return


def _overlap(first: Constraint, text: str) -> bool:
    """Whether two constraints admit a version that both know: tried at their bounds and just above them."""
    try:
        second = constraint(text)
    except ValueError:
        return False
    bounds = [version for one in (first, second) for row in one.rows for _, version in row] or ["1.0.0.0"]
    points = {one.removesuffix("-dev") for one in bounds} | {*bounds}
    points |= {f"{one.rpartition('.')[0]}.1" for one in points if re.fullmatch(r"[\d.]+", one)}
    return any(first.admits(one) and second.admits(one) for one in points)
