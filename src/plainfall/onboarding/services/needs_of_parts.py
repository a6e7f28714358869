"""Which servers the parts of a clone need: what settings, sources, definitions and lists say, put together."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from pathlib import Path

from msgspec.structs import replace

from plainfall.clone.parts import PartFound, Survey
from plainfall.clone.walk import Tree
from plainfall.ecosystems.frameworks import every_traits
from plainfall.errors import BadInput
from plainfall.formats.addresses import is_local, parse_address
from plainfall.formats.documents import read_document
from plainfall.patterns import regex
from plainfall.services.definitions import Definition, Interpolated
from plainfall.services.needs import Said, ServiceNeed, kind_of_scheme, needs_of, of_databases
from plainfall.services.roles import role_of
from plainfall.services.shape import kind_named
from plainfall.settings.setting import Setting
from plainfall.settings.units import Unit, sources_of, uses_of

__all__ = ["ServiceNeeds"]

_MANIFEST = regex(
    r"^(requirements[^/]*\.(txt|in)|pyproject\.toml|setup\.(py|cfg)|Pipfile|package\.json|composer\.json|Gemfile)$"
)
_ELSEWHERE = regex(r"(^|[/_.-])(prod|production|staging|stage|tests?|testing|ci|docker|heroku)([_./-]|$)")
_TEMPLATE = regex(r"[._-](?:example|sample|dist|template)(?=\.ya?ml$|$)")
_OWN = frozenset({"there already", "given", "asked", "team"})


class ServiceNeeds:
    """Knows what a clone's units address. ``definitions`` are those of its compose and configuration files."""

    def __init__(
        self, survey: Survey, tree: Tree, units: Sequence[Unit], definitions: Sequence[Definition]
    ) -> None:
        self._survey = survey
        self._tree = tree
        self._units = units
        self._definitions = definitions
        self._raw: dict[str, list[ServiceNeed]] = {}
        self._known_implied: dict[str, dict[str, Said]] = {}  # by the unit's folder

    def of_part(self, part: PartFound) -> list[ServiceNeed]:
        """The needs of a part by its templates, existing files and the code's defaults."""
        if part.is_secondary and not part.candidates("server"):
            return []
        if part.key not in self._raw:
            unit = self._unit(part)
            if unit is None or unit.client:
                self._raw[part.key] = []
            else:
                said = list(self._written(unit))
                values = {one.key: one.value for one in said}
                self._raw[part.key] = self._needs(part, unit, said, values)
        return self._raw[part.key]

    def with_settings(
        self,
        part: PartFound,
        shown: Sequence[Setting],
        values: Mapping[str, str],
        is_tracked: Callable[[str], bool],
    ) -> list[ServiceNeed]:
        """The needs of a part whose settings are filled; a value that the repository brings is not the person's."""
        unit = self._unit(part)
        if unit is None or unit.client:
            return []
        own = {one.file for one in shown if not is_tracked(one.file)}
        said = [
            Said(one.key, one.value, one.evidence, one.origin in _OWN and one.file in own)
            for one in shown
            if one.value
        ]
        return self._needs(part, unit, said, {**{one.key: one.value for one in said}, **values})

    def placed(
        self,
        port_of: Callable[[ServiceNeed, Collection[int]], int],
        password_for: Callable[[ServiceNeed], str],
    ) -> list[Definition]:
        """The definitions as they are for the servers of this machine: each with the port that ``port_of`` gives
        for a need; and one for each address of a template that has to move, or whose host is a name of another
        network, or that leaves the password to us (``password_for``; "" for none)."""
        results = list(self._definitions)
        taken: list[int] = []
        open_ones = self._without_password()
        implied = {key for unit in self._units if not unit.shared for key in self._implied(unit)}
        for part in self._survey.parts:
            for need in self.of_part(part):
                port = port_of(need, taken)
                taken.append(port)
                binding = [one for one in results if one.kind == need.kind and one.binding]
                if binding:
                    if port != need.port:
                        results = [_at(one, port) if one in binding else one for one in results]
                    continue
                password = password_for(need) if need.kind in open_ones else ""
                if password or port != need.port or self._is_named(need) or need.via in implied:
                    results.append(_definition_of(need, port, password))
        return results

    def _without_password(self) -> set[str]:
        """The kinds of service whose one address leaves the password open: no source states the address, no
        definition a password, no other part has an account there."""
        every = [need for part in self._survey.parts for need in self.of_part(part)]
        stated = {one.kind for one in self._definitions if "password" in one.values}
        return {
            kind
            for kind in {one.kind for one in every} - stated
            if [
                not need.fixed and bool(account.user) and not account.password
                for need in every
                if need.kind == kind
                for account in need.accounts
            ]
            == [True]
        }

    def _is_named(self, need: ServiceNeed) -> bool:
        """Whether the address of a need has a host of another network for its own, or one by which its drivers look
        for a socket."""
        return any(
            one.key == need.via and (_bare_host(one) or _means_socket(one, need.kind))
            for unit in self._units
            for one in self._written(unit, raw=True)
        )

    def _unit(self, part: PartFound) -> Unit | None:
        return next((one for one in self._units if one.folder == part.path and not one.shared), None)

    def _needs(
        self, part: PartFound, unit: Unit, said: Sequence[Said], values: Mapping[str, str]
    ) -> list[ServiceNeed]:
        manifests = self._manifests(part)
        needs = needs_of(said, list(self._addressed(unit, values, said)), self._definitions, manifests)
        return [one for one in needs if not one.fixed or _speaks(one.kind, manifests)]

    def _addressed(self, unit: Unit, values: Mapping[str, str], said: Sequence[Said]) -> Iterator[Said]:
        """Addresses that stand in the sources and that no setting takes the place of."""
        sources = sources_of(unit, self._survey.sources)
        reads = {
            (use.place.path, use.place.line)
            for uses in uses_of(sources, unit.client).values()
            for use in uses
            if use.default is not None
        }
        for path in sorted(sources):
            if _ELSEWHERE.search(path[len(unit.folder) :].lstrip("/")):
                continue
            if _TEMPLATE.search(path) and _TEMPLATE.sub("", path) in self._tree:
                continue  # the file itself is there
            for one in sources[path].addresses:
                if one.kind == "database":
                    yield from (replace(each, place=one.place) for each in of_databases(one.value, values))
                elif (one.place.path, one.place.line) not in reads:
                    yield Said("", one.value, one.place)

    def _written(self, unit: Unit, *, raw: bool = False) -> Iterator[Said]:
        """What template, existing file and code say of each key; a host that is a bare name counts as this machine,
        unless ``raw``."""
        found: dict[str, Said] = {}
        for template in unit.templates:
            for path in (template.template, template.target):
                if not (Path(self._tree.root) / path).is_file():
                    continue
                try:
                    document = read_document(template.kind, self._tree.text(path), path)
                except BadInput:
                    continue  # reported where the file is filled
                for entry in document.entries:
                    if entry.value or entry.key not in found:
                        place = replace(template.evidence, path=path, line=entry.line, text=entry.key)
                        found[entry.key] = Said(entry.key, entry.value, place)
        for key, uses in uses_of(sources_of(unit, self._survey.sources), unit.client).items():
            default = next((use for use in uses if use.default), None)
            if key not in found and default is not None:
                found[key] = Said(key, str(default.default), replace(default.place, text=key))
        found = {**self._implied(unit), **found}
        yield from found.values() if raw else map(_on_this_machine, found.values())

    def _implied(self, unit: Unit) -> dict[str, Said]:
        """Addresses of servers that the code cannot do without, that nothing in the clone states, and for whose
        kind alone the part lists a driver: as a developer would make them, with an account of the clone's name."""
        if unit.folder in self._known_implied:
            return self._known_implied[unit.folder]
        parts = [part for part in self._survey.parts if part.path == unit.folder]
        results: dict[str, Said] = {}
        self._known_implied[unit.folder] = results
        for key, uses in uses_of(sources_of(unit, self._survey.sources), unit.client).items():
            needed = next((use for use in uses if use.needed), None)
            role = role_of(key)
            if needed is None or role is None or role.piece != "address" or any(use.default for use in uses):
                continue
            manifests = "\n".join(self._manifests(part) for part in parts)
            spoken = [name for name in role.kinds if kind_named(name).drivers and _speaks(name, manifests)]
            if len(spoken) != 1 or any(one.kind == spoken[0] for one in self._definitions):
                continue
            kind = kind_named(spoken[0])
            own = re.sub(r"\W+", "_", self._tree.root.name.lower()).strip("_") or "project"
            account = f"{own}@" if kind.has_accounts else ""
            name = f"/{own}" if kind.has_accounts else ""
            address = f"{kind.new_scheme}://{account}localhost:{kind.port}{name}"
            results[key] = Said(key, address, replace(needed.place, text=key))
        return results

    def _manifests(self, part: PartFound) -> str:
        place = f"{part.path}/" if part.path else ""
        names = [f"{place}{name}" for name in self._tree.folders.get(part.path, ()) if _MANIFEST.match(name)]
        listed = part.dependencies.files if part.dependencies is not None else ()
        shown = {one.name for one in part.frameworks}
        texts = [f'"{kind}"' for one in every_traits() if shown & {*one.names} for kind in one.services]
        for path in dict.fromkeys([*names, *listed]):
            if path in self._tree and not path.endswith((".lock", "-lock.json", "-lock.yaml")):
                try:
                    texts.append(self._tree.text(path))
                except BadInput:
                    continue  # reported where the list is read
        return "\n".join(texts)


def _speaks(kind: str, manifests: str) -> bool:
    """Whether a list of the part names a package that speaks to a kind of service."""
    drivers = kind_named(kind).drivers
    return not drivers or re.search(drivers, manifests, re.IGNORECASE) is not None


def _bare_host(said: Said) -> bool:
    """Whether the value has a host that is a bare name, as services have them in their own network."""
    address = parse_address(said.value)
    if address is not None:
        return kind_of_scheme(address.scheme) is not None and _is_bare(address.host)
    role = role_of(said.key)
    return role is not None and role.piece == "host" and _is_bare(said.value)


def _means_socket(said: Said, kind: str) -> bool:
    address = parse_address(said.value)
    host = address.host if address is not None else said.value
    return host == "localhost" != kind_named(kind).host


def _is_bare(host: str) -> bool:
    return bool(re.fullmatch(r"[A-Za-z][\w-]*", host)) and not is_local(host)


def _on_this_machine(said: Said) -> Said:
    if not _bare_host(said):
        return said
    address = parse_address(said.value)
    return replace(
        said, value=str(replace(address, host="localhost")) if address is not None else "localhost"
    )


def _at(definition: Definition, port: int) -> Definition:
    return replace(
        definition, values={**definition.values, "port": Interpolated(str(port), definition.place)}
    )


def _definition_of(need: ServiceNeed, port: int, password: str) -> Definition:
    """A definition that says of a private server what the template's address says, the port that it has, and a
    ``password`` where the address leaves that open."""
    account = need.accounts[0]
    password = account.password or password
    texts = {"user": account.user, "password": password, "name": account.database, "port": str(port)}
    values = {
        piece: Interpolated(text.replace("$", "$$"), need.place) for piece, text in texts.items() if text
    }
    return Definition("this clone's own", need.kind, need.place, values)
