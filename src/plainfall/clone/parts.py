"""The results of a survey, as values."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from msgspec import Struct, field

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import FrameworkFound
from plainfall.clone.readme import ReadmeStep
from plainfall.clone.second_processes import SecondProcess
from plainfall.evidence import Evidence
from plainfall.runtimes.asks import VersionAsk
from plainfall.sources.values import FileFound

__all__ = [
    "Addition",
    "Contradiction",
    "DependencyFile",
    "Extension",
    "PartFound",
    "PortWanted",
    "SettingsFound",
    "Survey",
]


class Addition(Struct, frozen=True):
    """A package that a part needs and its own list does not name: the requirement, the line that names it, and the
    line that needs it. With ``in_place`` the text is a folder of the clone, whose project is used in place; with
    ``is_well_known`` no list has to name it, since the language ships its name."""

    text: str
    evidence: Evidence
    needed_by: Evidence
    in_place: bool = False
    is_well_known: bool = False


class DependencyFile(Struct, frozen=True):
    """The dependency list that counts: its path and kind, why it and not another, whether it is a complete
    lock, and the paths of every file it includes. ``count`` is the number of its entries, ``names`` their
    normalised names; ``made_for`` the version of the runtime that a lock was made for; ``offered`` its extras
    and groups; ``archives`` the names of the archives that it lists, by package; ``pinned`` names and versions
    of its exact pins, ``options`` what it says of registries (the language's own value). ``additions`` are needed
    and come from other lists of the project; ``unlisted`` are imported, and no list names them; with
    ``is_from_imports`` there is no list at all. ``needs_settings`` tells that the list is a program that reads a
    settings file: the settings come first then; ``is_complete`` that it pins every package."""

    path: str
    kind: str
    reason: str
    count: int
    evidence: Evidence
    files: tuple[str, ...] = ()
    others: tuple[str, ...] = ()
    names: tuple[str, ...] = ()
    made_for: tuple[str, Evidence] | None = None
    offered: tuple[tuple[str, ...], tuple[str, ...]] = ((), ())
    archives: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    pinned: tuple[tuple[str, str], ...] = ()
    options: object = None
    additions: tuple[Addition, ...] = ()
    unlisted: tuple[Addition, ...] = ()
    is_from_imports: bool = False
    needs_settings: bool = False
    is_complete: bool = False


class Extension(Struct, frozen=True):
    """An optional piece of a runtime that a clone cannot do without, and the line that says so. ``fact`` is its
    name among the facts that a runtime is asked for (a truth; a fact that is not known counts as true), and
    ``system_package`` what brings it on Debian and its kin ("" where only another build of the runtime does)."""

    name: str
    evidence: Evidence
    fact: str
    system_package: str = ""


class PortWanted(Struct, frozen=True):
    """The port that a part's server should have, the kind of place that states it (in words), and that place."""

    port: int
    source: str
    place: Evidence


class SettingsFound(Struct, frozen=True):
    """A settings template and the file it is made into (both relative to the clone), with its keys.

    ``kind`` is "dotenv", "yaml", "json", "toml", "ini" or "php"; ``loaded`` the line of code that loads the
    file and so tells its name, or None.
    """

    template: str
    target: str
    keys: tuple[str, ...]
    evidence: Evidence
    exists: bool
    kind: str = "dotenv"
    loaded: Evidence | None = None


class PartFound(Struct, frozen=True):
    """One runnable unit of the clone. ``path`` is its folder ("" is the clone itself); ``variables`` are those that
    its commands need (a mode, a settings module); ``extensions`` optional pieces of the runtime that it needs;
    ``processes`` run beside its server. ``is_secondary`` tells that another language has its part in the same
    folder, which goes before this one."""

    path: str
    language: str
    evidence: tuple[Evidence, ...]
    asks: tuple[VersionAsk, ...] = ()
    dependencies: DependencyFile | None = None
    templates: tuple[SettingsFound, ...] = ()
    commands: tuple[Command, ...] = ()
    pages: tuple[str, ...] = ()
    frameworks: tuple[FrameworkFound, ...] = ()
    variables: Mapping[str, str] = field(default_factory=dict)
    extensions: tuple[Extension, ...] = ()
    processes: tuple[SecondProcess, ...] = ()
    is_secondary: bool = False

    @property
    def key(self) -> str:
        """What tells the part from all others of the clone: its folder, and its language where it is the
        secondary one there."""
        if not self.is_secondary:
            return self.path
        return f"{self.path}/({self.language})" if self.path else f"({self.language})"

    @property
    def settings(self) -> SettingsFound | None:
        """The template that its commands' variables come from: the first dotenv one."""
        return next((one for one in self.templates if one.kind == "dotenv"), None)

    def candidates(self, stage: str) -> list[Command]:
        """The commands for a stage, the best first; a command written in two places counts once."""
        ranked = sorted(
            (command for command in self.commands if command.stage == stage), key=lambda c: -c.rank
        )
        first: dict[str, Command] = {}
        for command in ranked:
            first.setdefault(command.line, command)
        return list(first.values())


class Contradiction(Struct, frozen=True):
    """A contradiction: two or more places of the clone that cannot all be right, and what is done about it."""

    what: str
    places: tuple[Evidence, ...]
    taken: str

    def as_json(self) -> dict[str, Any]:
        """The form that ``--json`` documents show."""
        return {"what": self.what, "taken": self.taken, "evidence": [p.as_json() for p in self.places]}


class Survey(Struct, frozen=True):
    """A survey's result: parts in the order of their folders, README steps, contradictions, and remarks on what is
    not onboarded (with evidence). ``others`` are parts of languages that are not
    onboarded yet: only their settings are looked after. ``examples`` are folders of applications that are no parts,
    with what they are known by. ``sources`` is what each source file says of
    configuration, by path."""

    name: str
    parts: tuple[PartFound, ...]
    others: tuple[PartFound, ...] = ()
    sources: Mapping[str, FileFound] = field(default_factory=dict)
    steps: tuple[ReadmeStep, ...] = ()
    contradictions: tuple[Contradiction, ...] = ()
    remarks: tuple[tuple[str, Evidence], ...] = ()
    history: str = ""
    examples: tuple[tuple[str, Evidence], ...] = ()
    extra: dict[str, Any] = field(default_factory=dict)
