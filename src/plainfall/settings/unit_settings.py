"""The settings of one unit of a clone, from what was surveyed to the text of each file."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from urllib.parse import quote

from msgspec import Struct, field
from msgspec.structs import replace

from plainfall.clone.commands import given_folder
from plainfall.clone.parts import Contradiction
from plainfall.clone.walk import Tree
from plainfall.ecosystems.frameworks import every_traits
from plainfall.evidence import Evidence
from plainfall.formats.documents import Document, read_document
from plainfall.formats.dotenv import Dotenv
from plainfall.kept_records import SettingsWritten
from plainfall.services.definitions import Definition, Interpolated
from plainfall.settings.filling import Filler
from plainfall.settings.item import Agreement, Given, fingerprint
from plainfall.settings.listener_values import Listener
from plainfall.settings.setting import Asker, Setting, SettingsFile
from plainfall.settings.settled import settled_text
from plainfall.settings.templates import resolved_loads
from plainfall.settings.units import Unit, constants_of, document_uses, sources_of, uses_of
from plainfall.sources.values import Constant, FileFound, Use

__all__ = ["Settled", "SettledFile", "Surveyed", "record_of", "settle"]


class Surveyed(Struct, frozen=True):
    """What the settings of every unit of a clone stand on: the tree, what its sources say, its service
    definitions, the variables that those take in from outside, where each part's server listens, and which paths
    version control tracks."""

    tree: Tree
    sources: Mapping[str, FileFound]
    definitions: Sequence[Definition]
    taken: Mapping[str, Sequence[Interpolated]]
    listeners: Mapping[str, Listener] = field(default_factory=dict)
    tracked: Callable[[str], bool] = lambda path: False


class SettledFile(Struct, frozen=True):
    """A file with its new text; ``changed`` tells whether that differs from the file on disk, ``refused`` are
    keys that it should have and that cannot be put in without writing over somebody's lines."""

    file: SettingsFile
    text: str
    changed: bool
    refused: tuple[str, ...]


class Settled(Struct, frozen=True):
    """All that was decided for one unit. ``values`` are those of its dotenv files, with their references put
    in; ``asked`` the keys that a person was asked for."""

    unit: Unit
    files: tuple[SettledFile, ...]
    settings: tuple[Setting, ...]
    constants: tuple[Constant, ...]
    contradictions: tuple[Contradiction, ...]
    values: Mapping[str, str]
    asked: tuple[str, ...]


def settle(
    unit: Unit,
    surveyed: Surveyed,
    given: Mapping[str, Given],
    record: SettingsWritten,
    elsewhere: Mapping[str, str],
    ask: Asker | None,
) -> Settled:
    """Decides every key of a unit. Changes nothing on disk.

    ``record`` is what was kept when its files were written (``made``, ``origins``, ``skipped``, ``salt``);
    ``elsewhere`` the values of a shared unit above. Raises BadInput for a settings file that cannot be read.
    """
    sources = sources_of(unit, surveyed.sources)
    uses = uses_of(sources, unit.client)
    reads = uses
    for key, taken in surveyed.taken.items():
        places = [Use(key, value.place, value.default_of(key)) for value in taken]
        uses = {**uses, key: [*uses.get(key, []), *places]}
    own = surveyed.listeners.get(unit.folder)
    others = [one for folder, one in surveyed.listeners.items() if folder != unit.folder]
    agreement = Agreement(
        surveyed.definitions, own, others, unit.frameworks, _own_prefixes(uses), given_folder(unit.folder)
    )
    filler = Filler(agreement, given, ask, record.skipped, record.salt)
    files = _files(unit, surveyed, sources, record)
    in_files = {entry.key for file in files for entry in (file.template.entries if file.template else ())}
    first = True
    for file in files:
        primary = first and file.kind == "dotenv"
        first = first and not primary
        if file.kind == "dotenv":
            mine = uses if file.template or file.current else reads
            own_keys = {entry.key for entry in file.template.entries} if file.template else set()
            code_only = {} if unit.shared else reads
            shown = {
                key: read
                for key, read in mine.items()
                if key in code_only or key in own_keys or _stands(file, key)
            }
            alone = (in_files - own_keys) | (set(elsewhere) - own_keys)
            filler.fill(file, shown, alone=alone, primary=primary)
        else:
            filler.fill(file, document_uses(sources, file.target), primary=False)
    settled, values = [], dict[str, str]()
    for file in files:
        text, refused = settled_text(file, filler.settings)
        # An absent file without content is not created.
        wanted = file.template is not None or file.current is not None or text != ""
        before = file.current.text if file.current else None
        written = _own_text(file, text)
        settled.append(SettledFile(file, written, wanted and text != before, tuple(refused)))
        if file.kind == "dotenv":
            document = read_document("dotenv", text, file.target)
            assert isinstance(document, Dotenv)
            values |= document.interpolated({**elsewhere, **values})
    settings = [_with_place(_with_refusal(one, settled), files) for one in filler.settings]
    return Settled(
        unit,
        tuple(settled),
        tuple(settings),
        tuple(constants_of(sources)),
        tuple(filler.contradictions),
        values,
        tuple(filler.asked_for),
    )


def _own_text(file: SettingsFile, text: str) -> str:
    """What goes into the file itself: of one that goes over a tracked one, all behind that one's text."""
    if file.tracked is None:
        return text
    return text[len(_joined(file.tracked.text, "")) :]


def _joined(tracked: str, local: str) -> str:
    return f"{tracked}\n{local}" if tracked and not tracked.endswith("\n") else f"{tracked}{local}"


def _with_place(setting: Setting, files: Sequence[SettingsFile]) -> Setting:
    """A setting that stands in the tracked file is shown there."""
    for file in files:
        if file.target == setting.file and file.tracked is not None and setting.origin == "there already":
            entry = next((one for one in file.tracked.entries if one.key == setting.key), None)
            if entry is not None and entry.value == setting.value:
                return replace(
                    setting, file=file.tracked_path, evidence=Evidence(file.tracked_path, entry.line)
                )
    return setting


def _stands(file: SettingsFile, key: str) -> bool:
    return file.current is not None and any(entry.key == key for entry in file.current.entries)


def _with_refusal(setting: Setting, files: Sequence[SettledFile]) -> Setting:
    """The setting as it is in a file that Plainfall may not write over."""
    for one in files:
        if one.file.target == setting.file and setting.key in one.refused and one.file.kind != "dotenv":
            existing = one.file.current is not None
            why = (
                "write it into the file by hand: it is yours" if existing else "it cannot be put in by itself"
            )
            return replace(setting, note=f"{setting.note}; {why}" if setting.note else why, origin="open")
    return setting


def _files(
    unit: Unit, surveyed: Surveyed, sources: Mapping[str, FileFound], record: SettingsWritten
) -> list[SettingsFile]:
    """The unit's settings files: one for each template, and the dotenv file that its code loads, or would."""
    tree = surveyed.tree
    files = []
    for result in unit.templates:
        template = read_document(result.kind, tree.text(result.template), result.template)
        files.append(
            _file(tree, result.target, result.kind, result.template, template, record, result.loaded)
        )
    if not unit.shared and not any(file.kind == "dotenv" for file in files):
        target, loaded = _unnamed_target(unit, tree, sources)
        files.insert(0, _file(tree, target, "dotenv", "", None, record, loaded))
    return [_over_tracked(file, unit, surveyed, record) for file in files]


def _over_tracked(
    file: SettingsFile, unit: Unit, surveyed: Surveyed, record: SettingsWritten
) -> SettingsFile:
    """The same file if version control does not track it. A tracked one is never written: of a dotenv file what
    is to be filled goes into a local file that goes over it, other kinds are left as they are."""
    if file.current is None or not surveyed.tracked(file.target):
        return file
    if file.kind != "dotenv":
        return replace(file, ours=False)
    target = _local_target(file.target, unit, surveyed)
    local = _file(surveyed.tree, target, "dotenv", "", None, record, file.loaded)
    text = _joined(file.current.text, local.current.text if local.current else "")
    return replace(
        local,
        template_path=file.template_path,
        template=file.template,
        current=read_document("dotenv", text, file.target),
        ours=False,
        tracked=file.current,
        tracked_path=file.target,
    )


def _read_local() -> set[str]:
    """Frameworks whose loader reads ``.env.local`` over ``.env`` (and the same with a mode behind)."""
    return {name for traits in every_traits() if traits.reads_local for name in traits.names}


def _local_target(target: str, unit: Unit, surveyed: Surveyed) -> str:
    """The file that the loader reads over a tracked one; where none is known, one of Plainfall's own, whose
    values the part's commands get as variables."""
    local = f"{target}.local"
    loads = any(path == local for path, _ in resolved_loads(unit.folder, surveyed.sources))
    if (loads or set(unit.frameworks) & _read_local()) and not surveyed.tracked(local):
        return local
    return f".plainfall/settings/{quote(os.fsencode(target), safe='')}"


def _unnamed_target(unit: Unit, tree: Tree, sources: Mapping[str, FileFound]) -> tuple[str, Evidence | None]:
    """Where a unit without a template keeps its settings: the dotenv file that its code loads, or
    ``.env``."""
    place = f"{unit.folder}/" if unit.folder else ""
    for path, load in resolved_loads(unit.folder, sources):
        name = path.rpartition("/")[2]
        if name.startswith(".env") and path not in tree and (not unit.folder or path.startswith(place)):
            return path, load.place
    return f"{place}.env", None


def _file(
    tree: Tree,
    target: str,
    kind: str,
    template_path: str,
    template: Document | None,
    record: SettingsWritten,
    loaded: Evidence | None,
) -> SettingsFile:
    existing = None
    if (Path(tree.root) / target).is_file():
        tree.forget(target)  # the person may have edited it since it was read
        existing = read_document(kind, tree.text(target), target)
    ours = target in record.files
    origins = record.origins.get(target, {})
    recorded = tuple((key, origin, known) for key, (origin, known) in origins.items())
    return SettingsFile(target, kind, template_path, template, existing, ours, recorded, loaded)


def _own_prefixes(uses: Mapping[str, Sequence[Use]]) -> list[str]:
    """Words that many keys of the clone begin with: the project's own name, most likely."""
    counts: dict[str, int] = {}
    for key in uses:
        word, joined, _ = key.partition("_")
        if joined:
            counts[word] = counts.get(word, 0) + 1
    return [word for word, count in counts.items() if count >= 3]


def record_of(settled: Settled, record: SettingsWritten, salt: str) -> SettingsWritten:
    """What is kept of a unit once its files are written: no value, only fingerprints."""
    origins: dict[str, dict[str, tuple[str, str]]] = {}
    for one in settled.settings:
        if one.written and one.origin != "there already":
            origins.setdefault(one.file, {})[one.key] = one.origin, fingerprint(salt, one.value)
    new = [one.file.target for one in settled.files if one.changed and one.file.current is None]
    left_open = {one.key for one in settled.settings if one.origin == "open"}
    skipped = {*record.skipped, *(key for key in settled.asked if key in left_open)}
    made = tuple(dict.fromkeys([*record.files, *new]))
    return SettingsWritten(made=made, origins=origins, skipped=tuple(sorted(skipped)), salt=salt)
