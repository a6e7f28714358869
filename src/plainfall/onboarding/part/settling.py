"""The settings of the clone: surveyed once, settled unit by unit, written and remembered."""

from __future__ import annotations

import secrets
from collections.abc import Mapping, Sequence
from pathlib import Path

from plainfall.clone.parts import PartFound, PortWanted, Survey
from plainfall.clone.walk import Tree
from plainfall.errors import BadInput
from plainfall.formats.documents import read_document
from plainfall.formats.dotenv import parse_dotenv
from plainfall.formats.entries import Entry
from plainfall.formats.values import is_secret
from plainfall.kept_records import SettingsWritten
from plainfall.onboarding.records.state import CloneState
from plainfall.onboarding.services.needs_of_parts import ServiceNeeds
from plainfall.onboarding.services.service_records import own_password, port_of
from plainfall.services.database_files import find_database_files
from plainfall.services.definitions import find_definitions
from plainfall.services.needs import ServiceNeed
from plainfall.settings.answers import given_values
from plainfall.settings.item import Given, fingerprint
from plainfall.settings.listener_values import Listener
from plainfall.settings.setting import Asker, Setting
from plainfall.settings.unit_settings import Settled, Surveyed, settle
from plainfall.settings.units import Unit, sources_of, units_of, uses_of
from plainfall.survey.ports import PORT_KEYS, USUAL, port_wanted
from plainfall.tracing import cover, trace

__all__ = ["Settling"]


class Settling:
    """Knows the clone's units, and decides their settings when asked. ``command_line`` are the values given
    there, ``port`` the port asked for there. With ``choose`` free ports are looked for, else the ones that
    the clone means are taken as they are; with ``note`` off none is noted as given."""

    def __init__(
        self,
        survey: Survey,
        tree: Tree,
        state: CloneState,
        command_line: Mapping[str, str],
        variables: Mapping[str, str],
        *,
        port: int | None = None,
        choose: bool = False,
        note: bool = True,
    ) -> None:
        self._tree = tree
        self._state = state
        self._command_line = command_line
        self._variables = variables
        self._survey = survey
        self.units = units_of(survey, tree)
        self.wanted: dict[str, PortWanted] = {}
        definitions, taken = find_definitions(tree)
        definitions += find_database_files(tree)
        self._keys: dict[str, frozenset[str]] = {}
        self._note = note
        listeners = self._listeners(port, choose)
        self._needs = ServiceNeeds(survey, tree, self.units, definitions)
        if choose:
            definitions = self._needs.placed(
                lambda need, taken: port_of(state, need, taken, note=note),
                lambda need: own_password(state, need),
            )
        self._surveyed = Surveyed(tree, survey.sources, definitions, taken, listeners, self._is_tracked)

    @property
    def survey(self) -> Survey:
        """The survey that it stands on."""
        return self._survey

    @property
    def ports(self) -> dict[str, int]:
        """The port of each part's server, by the part's folder."""
        return {folder: one.port for folder, one in self._surveyed.listeners.items()}

    @property
    def clients(self) -> frozenset[str]:
        """The folders of parts that serve pages which call another part's interface."""
        return frozenset(unit.folder for unit in self.units if unit.client)

    def needs_of_part(self, part: PartFound) -> list[ServiceNeed]:
        """The servers that a part addresses on this machine, as far as its template, its sources and the
        definitions say it."""
        return self._needs.of_part(part)

    def needs_with(
        self, part: PartFound, shown: Sequence[Setting], values: Mapping[str, str]
    ) -> list[ServiceNeed]:
        """The same with the settings as they are."""
        return self._needs.with_settings(part, shown, values, self._is_tracked)

    def unit(self, folder: str) -> Unit | None:
        """The unit of that folder that is not a shared one."""
        return next((one for one in self.units if one.folder == folder and not one.shared), None)

    def has_settings(self, folder: str) -> bool:
        """Whether there is anything to fill or to look at in a part: a template, a file, a value that was
        given, or code that reads its environment."""
        unit = self.unit(folder)
        if unit is None:
            return False
        if unit.templates or self.shared is not None or self._given(unit):
            return True
        place = f"{folder}/" if folder else ""
        if (Path(self._tree.root) / f"{place}.env").is_file():
            return True
        return bool(uses_of(sources_of(unit, self._survey.sources), unit.client))

    def _is_tracked(self, path: str) -> bool:
        return self._state.is_tracked(self._state.clone / path)

    def _given(self, unit: Unit) -> dict[str, Given]:
        """The given values that are this unit's: those whose key it has; the first unit gets those that none
        has, since somebody meant them."""
        given = given_values(self._command_line, self._variables, self._tree, unit.folder)
        own = self._keys_of(unit)
        others = [one for one in self.units if one is not unit and not one.shared]
        first = unit is next((one for one in self.units if not one.shared), None)
        return {
            key: value
            for key, value in given.items()
            if key in own
            or value.origin == "team"
            or (first and not any(key in self._keys_of(other) for other in others))
        }

    def _keys_of(self, unit: Unit) -> frozenset[str]:
        """The keys of a unit's templates, of the existing settings file, and that its code reads."""
        if unit.folder not in self._keys:
            keys = set(uses_of(sources_of(unit, self._survey.sources), unit.client))
            for result in unit.templates:
                keys |= {one.key for one in self._entries(result.kind, result.template)}
                if (Path(self._tree.root) / result.target).is_file():
                    keys |= {one.key for one in self._entries(result.kind, result.target)}
            place = f"{unit.folder}/.env" if unit.folder else ".env"
            if (Path(self._tree.root) / place).is_file():
                keys |= {one.key for one in self._entries("dotenv", place)}
            self._keys[unit.folder] = frozenset(keys)
        return self._keys[unit.folder]

    def _entries(self, kind: str, path: str) -> Sequence[Entry]:
        try:
            return read_document(kind, self._tree.text(path), path).entries
        except BadInput:
            return ()  # reported where the file is filled

    @property
    def shared(self) -> Unit | None:
        """The unit whose settings are for all the others."""
        return next((one for one in self.units if one.shared), None)

    def settle(self, unit: Unit, ask: Asker | None) -> Settled:
        """Decides a unit's settings; what is in a shared unit's files counts as known. Raises BadInput."""
        shared = self.shared
        elsewhere: Mapping[str, str] = {}
        if shared is not None and unit is not shared:
            elsewhere = self.settle(shared, None).values
        record = self._state.read(unit.folder, SettingsWritten, self.stage(unit))
        settled = settle(unit, self._surveyed, self._given(unit), record, elsewhere, ask)
        cover(value for key, value in settled.values.items() if is_secret(key, value))
        for one in settled.settings:
            trace.debug("setting %s of %s: %s", one.key, unit.folder or "the top", one.origin)
        return settled

    @staticmethod
    def stage(unit: Unit) -> str:
        """The name under which a unit's record is kept."""
        return SettingsWritten.SHARED if unit.shared else SettingsWritten.NAME

    def salt(self, unit: Unit) -> str:
        """The salt of the unit's fingerprints, a new one where there is none."""
        result = self._state.read(unit.folder, SettingsWritten, self.stage(unit)).salt
        return result or secrets.token_hex(16)

    def _listeners(self, asked: int | None, choose: bool) -> dict[str, Listener]:
        listeners: dict[str, Listener] = {}
        onboarded = {part.key for part in self._survey.parts}
        servers = self._state.servers
        for part in (*self._survey.parts, *self._survey.others):
            unit = self.unit(part.path)
            if unit is None or part.key in listeners:
                continue
            sources = sources_of(unit, self._survey.sources)
            own = {} if part.is_secondary else self._own_values(part)
            wanted = port_wanted(self._tree, part, sources, own)
            if asked is not None and part.key in onboarded and not any(p in listeners for p in onboarded):
                wanted = PortWanted(asked, "--port", wanted.place)
            without = part.key in onboarded and not part.candidates("server")
            if without and (wanted.source == USUAL or part.is_secondary):
                continue  # nothing of it listens
            self.wanted[part.key] = wanted
            port = wanted.port
            running = servers.get(part.key)
            if running is not None and running.wanted == wanted.port:
                port = running.port
            elif choose and part.key in onboarded:
                taken = [one.port for one in listeners.values()]
                register, exactly = self._state.register, wanted.source == "--port"
                port = register.port_for(
                    self._state.clone, part.key, wanted.port, taken, exactly=exactly, note=self._note
                )
            listeners[part.key] = Listener(
                part.key, port, wanted.place, unit.client or part.is_secondary, wanted.port
            )
        return listeners

    def _own_values(self, part: PartFound) -> dict[str, str]:
        """Ports that somebody set: given for this run, or in the part's own file and not written by us."""
        given = given_values(self._command_line, self._variables, self._tree, part.path)
        own = {key: given[key].value for key in PORT_KEYS if key in given}
        result = part.settings
        target = result.target if result else (f"{part.path}/.env" if part.path else ".env")
        if (Path(self._tree.root) / target).is_file():
            self._tree.forget(target)
            record = self._state.read(part.path, SettingsWritten)
            origins = record.origins.get(target, {})
            for key, value in parse_dotenv(self._tree.text(target), target).values().items():
                known = origins.get(key)
                written = known is not None and known[1] == fingerprint(record.salt, value)
                if key in PORT_KEYS and not written:
                    own.setdefault(key, value)
        return own
