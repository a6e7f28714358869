"""Filling a settings file: what each key's value is and where it came from."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from plainfall.errors import UsageProblem
from plainfall.evidence import Evidence
from plainfall.settings.dotenv import Dotenv, parse_dotenv, quoted
from plainfall.settings.values import Kind, generated_secret, is_placeholder, is_secret, kind_of

__all__ = ["Filled", "Question", "Setting", "fill", "parse_given"]


@dataclass(frozen=True, slots=True)
class Setting:
    """One key: where its value came from ("template", "generated", "given", "asked", "there already",
    "optional", "open"), whether it is a secret, the place it stands on, and for an open one the line of
    code that cannot do without it."""

    key: str
    origin: str
    secret: bool
    evidence: Evidence
    needed_by: Evidence | None = None

    def as_json(self) -> dict[str, object]:
        """The form that ``--json`` documents show; never a value."""
        return {
            "key": self.key,
            "origin": self.origin,
            "secret": self.secret,
            "evidence": [self.evidence.as_json()],
            "needed_by": self.needed_by.as_json() if self.needed_by else None,
        }


@dataclass(frozen=True)
class Filled:
    """The file's new text and every key's setting; ``added`` are the keys written in this run."""

    text: str
    settings: tuple[Setting, ...]
    added: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Question:
    """Asked of a person: the key, why it is asked (the template's comment), who reads it."""

    key: str
    why: str
    needed_by: Evidence | None


Asker = Callable[[Question], str | None]


def parse_given(pairs: Sequence[str]) -> dict[str, str]:
    """``KEY=VALUE`` words of the command line. Raises UsageProblem."""
    given = {}
    for pair in pairs:
        key, joined, value = pair.partition("=")
        if not joined or not re.fullmatch(r"[A-Za-z_][\w.-]*", key):
            raise UsageProblem(f"--set wants KEY=VALUE, not {pair!r}", remedy="As in: --set PORT=8000")
        given[key] = value
    return given


def fill(
    template: Dotenv | None,
    there: Dotenv | None,
    *,
    template_path: str,
    target_path: str,
    given: Mapping[str, str],
    needed: Mapping[str, Evidence],
    ours: bool,
    ask: Asker | None,
) -> Filled:
    """The text that the settings file should have.

    With no file there, it is the template's text with values put in. A file that is there keeps all its
    lines; keys that it lacks are added at the end. ``given`` wins over everything: put in place in a file
    that is ``ours``, as a later line in one that is not. ``ask`` is None where nobody can be asked.
    """
    made = there is None
    base = there or template or parse_dotenv("")
    existing = there.values() if there else {}
    document, added, settings = base, [], []
    extra: list[str] = []
    for entry in _keys(template):
        evidence = Evidence(template_path, entry.line)
        value, origin = _decided(entry, existing, given, needed, ask)
        if origin == "there already":
            evidence = Evidence(target_path, _line(there, entry.key))
        elif made:
            document = document.with_value(entry.key, value) if value != entry.value else document
            added.append(entry.key)
        elif entry.key in existing:
            document, extra = _replaced(document, extra, entry.key, value, existing, ours)
            added += [entry.key] if existing[entry.key] != value else []
        else:
            extra += [f"# {line}" for line in entry.comment.splitlines() if line]
            extra.append(f"{entry.key}={quoted(value)}")
            added.append(entry.key)
        secret = is_secret(entry.key, value)
        settings.append(Setting(entry.key, origin, secret, evidence, needed.get(entry.key)))
    known = {setting.key for setting in settings}
    for key, value in given.items():
        if key in known:
            continue
        if existing.get(key) != value:
            document, extra = _replaced(document, extra, key, value, existing, ours)
            added.append(key)
        settings.append(Setting(key, "given", is_secret(key, value), Evidence("the command line")))
    for key in existing:
        if key not in known and key not in given:
            place = Evidence(target_path, _line(there, key))
            settings.append(Setting(key, "there already", is_secret(key, existing[key]), place))
    if extra:
        document = document.with_lines(extra)
    return Filled(document.text, tuple(settings), tuple(added))


def _keys(template: Dotenv | None) -> list[_Entry]:
    last = {entry.key: entry for entry in template.entries} if template else {}
    return [_Entry(entry.key, entry.value, entry.comment, entry.line) for entry in last.values()]


@dataclass(frozen=True, slots=True)
class _Entry:
    key: str
    value: str
    comment: str
    line: int


def _decided(
    entry: _Entry,
    existing: Mapping[str, str],
    given: Mapping[str, str],
    needed: Mapping[str, Evidence],
    ask: Asker | None,
) -> tuple[str, str]:
    """The value of a template's key, and where it came from."""
    if entry.key in given:
        return given[entry.key], "given"
    kind = kind_of(entry.key, entry.value, entry.comment)
    if entry.key in existing:
        value = existing[entry.key]
        still_open = kind is Kind.ASK and is_placeholder(value)
        if not still_open and not (entry.key in needed and value == ""):
            return value, "there already"
    elif kind is Kind.USABLE:
        return entry.value, "template"
    elif kind is Kind.GENERATE:
        return generated_secret(), "generated"
    if kind is Kind.OPTIONAL and entry.key not in needed:
        return existing.get(entry.key, entry.value), "optional"
    answer = ask(Question(entry.key, entry.comment, needed.get(entry.key))) if ask else None
    if answer:
        return answer, "asked"
    return existing.get(entry.key, entry.value), "open"


def _replaced(
    document: Dotenv, extra: list[str], key: str, value: str, existing: Mapping[str, str], ours: bool
) -> tuple[Dotenv, list[str]]:
    if existing.get(key) == value:
        return document, extra
    if key in existing and ours:
        return document.with_value(key, value), extra
    return document, [*extra, f"{key}={quoted(value)}"]


def _line(document: Dotenv | None, key: str) -> int:
    lines = [entry.line for entry in document.entries if entry.key == key] if document else []
    return lines[-1] if lines else 0
