"""Deciding each setting's value: where it comes from, and what it must agree with."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

from msgspec import Struct, field
from msgspec.structs import replace

from plainfall.clone.parts import Contradiction
from plainfall.ecosystems.frameworks import every_traits
from plainfall.evidence import Evidence
from plainfall.formats.values import (
    Kind,
    development_value,
    folder_inside,
    is_mode,
    is_placeholder,
    is_secret,
    kind_of,
    plain_key,
    says_optional,
)
from plainfall.services.roles import role_of
from plainfall.settings.generated import form_of, form_of_framework, generated
from plainfall.settings.item import Agreement, Given, Item, fingerprint, is_plain
from plainfall.settings.listener_values import bind_value, local_port, match_listeners
from plainfall.settings.matching import Match, match_service
from plainfall.settings.setting import Asker, Question, Setting, SettingsFile
from plainfall.settings.similar_names import nearest
from plainfall.sources.values import Use

__all__ = ["Filler"]


class Filler(Struct):
    """Decides the keys of one part's files. ``given`` wins over everything; ``ask`` is None where nobody can
    be asked; ``skipped`` are keys that a person was asked for before and left open; ``salt`` goes into
    fingerprints of values.

    After ``fill``: ``settings`` and ``contradictions``, and ``values`` (the result, by file and key).
    """

    agreement: Agreement
    given: Mapping[str, Given]
    ask: Asker | None
    skipped: Collection[str]
    salt: str
    settings: list[Setting] = field(default_factory=list)
    contradictions: list[Contradiction] = field(default_factory=list)
    asked_for: list[str] = field(default_factory=list)

    def fill(
        self,
        file: SettingsFile,
        uses: Mapping[str, Sequence[Use]],
        *,
        alone: Collection[str] = (),
        primary: bool,
    ) -> None:
        """Decides every key of one file; for the ``primary`` one also the keys that only code knows, but for
        keys that another file ``alone`` holds."""
        items = self._items(file, uses, alone, primary)
        # What the services' definitions take in must be known before what has to agree with them.
        taken = {name for one in self.agreement.definitions for v in one.values.values() for name in v.names}
        first = [item for item in items if item.key in taken]
        values = dict(file.current.values()) if file.current else {}
        decided: dict[str, Setting] = {}
        for item in [*first, *(item for item in items if item.key not in taken)]:
            setting = self._decide(item, file, values)
            decided[item.key] = setting
            if setting.written:
                values[item.key] = setting.value
        self._similar_names(items, decided, file)
        order = [decided[item.key] for item in items]
        self.settings += order
        if file.current is not None:
            known = set(decided)
            for entry in file.current.entries:
                if entry.key not in known:
                    known.add(entry.key)
                    self.settings.append(self._extra(entry.key, file, uses.get(entry.key, ())))
        if primary:
            for key, given in self.given.items():
                if key not in {setting.key for setting in self.settings} and "." not in key:
                    self.settings.append(
                        Setting(
                            key,
                            file.target,
                            given.value,
                            given.origin,
                            is_secret(key, given.value),
                            given.place,
                        )
                    )

    def _items(
        self, file: SettingsFile, uses: Mapping[str, Sequence[Use]], alone: Collection[str], primary: bool
    ) -> list[Item]:
        items: dict[str, Item] = {}
        for entry in file.template.entries if file.template else ():
            place = Evidence(file.template_path, entry.line)
            items[entry.key] = Item(
                entry.key, entry.value, entry.comment, place, tuple(uses.get(entry.key, ()))
            )
        if primary:
            for key, read in uses.items():
                if key not in items and key not in alone and read:
                    items[key] = Item(key, None, "", read[0].place, tuple(read))
        return list(items.values())

    def _decide(self, item: Item, file: SettingsFile, values: Mapping[str, str]) -> Setting:
        secret = is_secret(item.key, item.value or "") or any(use.secret for use in item.uses)
        base = Setting(
            item.key, file.target, item.value or "", "template", secret, item.place, item.uses, item.needed
        )
        given = self.given.get(item.key)
        if given is not None and not self._is_own(item.key, file, given):
            return replace(
                base, value=given.value, origin=given.origin, evidence=given.place,
                secret=secret or is_secret(item.key, given.value),
            )  # fmt: skip
        existing = file.current.values() if file.current else {}
        if item.key in existing:
            return self._kept(item, base, file, existing, values)
        decided = self._fresh(item, base, values, item.value or "")
        note = decided.note
        if item.value is not None and not item.uses and not note and file.kind == "dotenv":
            decided = replace(decided, note="nothing in the code reads it")
        return decided

    def _is_own(self, key: str, file: SettingsFile, given: Given) -> bool:
        """Whether a person's own value stands in the file, over which the team's does not go."""
        existing = file.current.values() if file.current else {}
        if given.origin != "team" or key not in existing:
            return False
        recorded = file.recorded_origin(key, fingerprint(self.salt, existing[key]))
        return recorded in ("given", "asked") or (recorded is None and not is_placeholder(existing[key]))

    def _kept(
        self,
        item: Item,
        base: Setting,
        file: SettingsFile,
        existing: Mapping[str, str],
        values: Mapping[str, str],
    ) -> Setting:
        """A key that stands in the file: as it is, unless it still waits for its value, or it is one that
        Plainfall wrote and what it must agree with has changed."""
        value = existing[item.key]
        line = (
            next((one.line for one in reversed(file.current.entries) if one.key == item.key), 0)
            if file.current
            else 0
        )
        place = Evidence(file.target, line)
        recorded = file.recorded_origin(item.key, fingerprint(self.salt, value))
        secret = base.secret or is_secret(item.key, value)
        content = replace(
            base, value=value, origin=recorded or "there already", evidence=place, secret=secret
        )
        waiting = is_placeholder(value) and (
            recorded == "open" or self._kind(item, value) is Kind.ASK or (item.needed and value == "")
        )
        if recorded in ("open", "optional") or (waiting and recorded in (None, "template")):
            if not waiting:
                return content
            fresh = self._fresh(item, replace(content, origin="template"), values, value)
            return fresh if fresh.value != value else replace(content, origin=fresh.origin, note=fresh.note)
        match = self._match(item, value, values)
        if match is not None and match.value != value:
            if recorded is not None and recorded not in ("given", "asked", "team"):
                self._disagree(item, match, place)
                return replace(
                    content, value=match.value, origin="matched", evidence=match.place, note=match.what
                )
            if match.differs:
                self._disagree(item, match, place, kept=True)
        if recorded == "matched" and match is not None:
            return replace(content, evidence=match.place, note=match.what)
        if recorded == "code default":
            return replace(content, evidence=item.default_place)
        return content if recorded is None else replace(content, evidence=item.place)

    def _fresh(self, item: Item, base: Setting, values: Mapping[str, str], value: str) -> Setting:
        """A key that has no value of its own yet."""
        match = self._match(item, value, values) if item.value is not None or item.needed else None
        if match is not None:
            if match.differs:
                self._disagree(item, match, item.place)
                if not match.binding:
                    return base
            if match.value == value and not is_placeholder(value):
                elsewhere = match.place != item.place
                return replace(base, note=f"agrees with {match.what} ({match.place})" if elsewhere else "")
            return _matched(base, match)
        bound = bind_value(item.key, value) if item.value is not None else None
        if bound is not None:
            return replace(base, value=bound, origin="development value", note="this machine only")
        inside = folder_inside(item.key, value, self.agreement.folder) if item.value is not None else None
        if inside is not None:
            return replace(base, value=inside, origin="development value", note="a folder of the clone")
        kind = self._kind(item, value)
        if item.value is None:
            return self._only_in_code(item, base, kind, values)
        if kind is Kind.USABLE:
            return base
        if kind is Kind.GENERATE:
            return self._generated(item, base)
        types = {use.type for use in item.uses}
        chosen = development_value(item.key, types, _wanted_values(self.agreement.frameworks))
        # The code's own default for a mode is the one for production, most often.
        if value == "" and item.default is not None and is_plain(item.default) and not is_mode(item.key):
            return replace(base, value=item.default, origin="code default", evidence=item.default_place)
        if chosen is not None and (kind is not Kind.OPTIONAL or item.needed or value == ""):
            return replace(base, value=chosen, origin="development value")
        names = {name.lower() for name in self.agreement.frameworks}
        if self._local_secret(item) or form_of_framework(item.key, value, names):
            return self._generated(item, base)
        if kind is Kind.OPTIONAL and not (item.needed and not says_optional(item.comment)):
            return replace(base, origin="optional")
        return self._asked(item, base)

    def _only_in_code(self, item: Item, base: Setting, kind: Kind, values: Mapping[str, str]) -> Setting:
        """A key that the code reads and the template lacks: written only where the program stops without."""
        if item.default is not None and not item.needed:
            shown = item.default if is_plain(item.default) else ""
            # A default that names another network's host, or a port that is somebody else's here, does not do.
            match = match_service(item.key, shown, self.agreement.definitions, values) if shown else None
            if match is None and local_port(shown):
                match = self._match(item, shown, values)
            if match is not None and match.binding and match.value != shown:
                return _matched(base, match)
            return replace(
                base, value=shown, origin="code default", evidence=item.default_place, written=False
            )
        if not item.needed:
            defaults = any(use.default is not None for use in item.uses)
            return replace(base, origin="code default" if defaults else "optional", written=False)
        note = "the template lacks it"
        if kind is Kind.GENERATE:
            return replace(self._generated(item, base), note=note)
        types = {use.type for use in item.uses}
        chosen = development_value(item.key, types, _wanted_values(self.agreement.frameworks))
        if chosen is not None:
            return replace(base, value=chosen, origin="development value", note=note)
        asked = self._asked(item, base)
        return replace(asked, note=note, written=asked.origin != "open")

    def _generated(self, item: Item, base: Setting) -> Setting:
        form = form_of(item.key, item.value or "", item.comment, item.uses, self.agreement.frameworks)
        note = f"in the form that {form.why} wants" if form.why else ""
        return replace(base, value=generated(form), origin="generated", secret=True, note=note)

    def _local_secret(self, item: Item) -> bool:
        """A password of a service that takes this very key in: nobody else has to know it."""
        role = role_of(item.key)
        if role is None or role.piece != "password":
            return False
        return any(
            item.key in value.names for one in self.agreement.definitions for value in one.values.values()
        )

    def _asked(self, item: Item, base: Setting) -> Setting:
        proposed = "" if base.secret else item.default or ""
        if not proposed and role_of(item.key) is not None and plain_key(item.key).endswith(("_URL", "_URI")):
            proposed = "sqlite:///development.db" if "DATABASE" in plain_key(item.key) else ""
        skipped = item.key in self.skipped and not item.needed
        if self.ask is not None and not skipped:
            self.asked_for.append(item.key)
            answer = self.ask(Question(item.key, item.comment, item.uses, item.needed, proposed))
            if answer:
                return replace(
                    base, value=answer, origin="asked", secret=base.secret or is_secret(item.key, answer)
                )
        return replace(base, origin="open")

    def _kind(self, item: Item, value: str) -> Kind:
        return kind_of(item.key, value, item.comment, item.uses, self.agreement.own_prefixes)

    def _match(self, item: Item, value: str, values: Mapping[str, str]) -> Match | None:
        result = match_service(item.key, value, self.agreement.definitions, values)
        if result is None:
            written = item.value if item.value is not None else item.default or ""
            own, others = self.agreement.own, self.agreement.others
            result = match_listeners(item.key, value, own, others, written)
        return result

    def _disagree(self, item: Item, match: Match, place: Evidence, *, kept: bool = False) -> None:
        """Names both places. No secret is in the words."""
        if match.place == item.place:
            return  # another value was wished for, or is free: the clone does not contradict itself
        text = ", ".join(one for one in match.differs if one) or "another value"
        taken = "what the file holds, since it is yours" if kept else match.what
        taken = taken if match.binding or kept else f"what {place.path} says"
        self.contradictions.append(
            Contradiction(f"{item.key} does not agree with {match.what}: {text}", (place, match.place), taken)
        )

    def _similar_names(self, items: Sequence[Item], decided: dict[str, Setting], file: SettingsFile) -> None:
        """A key that code reads under nearly the name that the template gives it gets that one's value."""
        lacking = [item for item in items if item.value is None and item.uses]
        unread = [item.key for item in items if item.value is not None and not item.uses]
        for item in lacking:
            other = nearest(item.key, unread)
            if other is None or decided[item.key].origin in ("given", "team", "asked", "there already"):
                continue
            source = decided[other]
            self.contradictions.append(
                Contradiction(
                    f"{item.key} is read at {item.place}; the template calls it {other}",
                    (item.place, source.evidence if source.origin == "template" else _place_of(items, other)),
                    f"both get the value of {other}",
                )
            )
            existing = file.current is not None and item.key in file.current.values()
            if not existing:
                decided[item.key] = replace(
                    decided[item.key], value=source.value, origin="matched", evidence=_place_of(items, other),
                    note=f"the template calls it {other}", written=True, secret=source.secret,
                )  # fmt: skip
            decided[other] = replace(source, note=f"nothing in the code reads it; {item.key} is read")

    def _extra(self, key: str, file: SettingsFile, uses: Sequence[Use]) -> Setting:
        """A key that stands in the file and in no template."""
        assert file.current is not None  # only files that exist have such keys
        value = file.current.values()[key]
        line = next((one.line for one in reversed(file.current.entries) if one.key == key), 0)
        origin = file.recorded_origin(key, fingerprint(self.salt, value)) or "there already"
        needed = any(use.needed for use in uses)
        place = Evidence(file.target, line)
        given = self.given.get(key)
        if given is not None:
            value, origin, place = given.value, given.origin, given.place
        return Setting(key, file.target, value, origin, is_secret(key, value), place, tuple(uses), needed)


def _matched(base: Setting, match: Match) -> Setting:
    """The setting with the value that another place calls for."""
    secret = base.secret or is_secret(base.key, match.value)
    return replace(
        base, value=match.value, origin="matched", evidence=match.place, note=match.what, secret=secret
    )


def _place_of(items: Sequence[Item], key: str) -> Evidence:
    return next(item.place for item in items if item.key == key)


def _wanted_values(frameworks: Collection[str]) -> dict[str, str]:
    """What the frameworks want keys to hold while developing."""
    return {
        key: value
        for traits in every_traits()
        if set(traits.names) & set(frameworks)
        for key, value in traits.values.items()
    }
