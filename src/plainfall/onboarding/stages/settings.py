"""Settings: files are made from their templates, or added to; what must agree is made to agree."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import Any

from msgspec.structs import replace

from plainfall.clone.commands import GIVEN_FOLDER
from plainfall.data.sqlite import database_of_settings
from plainfall.errors import CommandFailed, PlainfallError, ServerFailed, ValueNeeded
from plainfall.kept_records import Installed, SettingsWritten
from plainfall.onboarding.part.planning import Planned
from plainfall.onboarding.part.results import SettingsResult
from plainfall.onboarding.part.steps import State, Step, StepResult
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.records.restoring import note_written
from plainfall.onboarding.stages.foreseen import foreseen_settings
from plainfall.onboarding.stages.stage import Stage
from plainfall.settings.setting import ORIGINS, Setting
from plainfall.settings.unit_settings import Settled, SettledFile, record_of
from plainfall.settings.units import Unit
from plainfall.writing import digest_of

__all__ = ["plan", "settings", "with_open_values"]


def plan(planned: Planned) -> Iterator[Step]:
    """The step that fills the part's settings, if it has any."""
    part = planned.part
    if not planned.settling.has_settings(part.path) or (part.is_secondary and not part.candidates("server")):
        return  # a secondary part has no settings of its own
    result = part.settings or next(iter(part.templates), None)
    verb = "complete" if result and result.exists else "make"
    title = f"{verb} {result.target} from {result.template}" if result else "see to what the code reads"
    why = "the code loads it" if result and result.loaded else ""
    evidence = tuple(place for place in (result.evidence, result.loaded) if place) if result else ()
    yield Step(part.key, Stage.SETTINGS, title, why, evidence, settings)


def settings(work: Work) -> StepResult:
    """Fills the part's settings files, and those that it shares with other parts. A value that only the person has
    and that the code seems to stop without is no reason to stop here, if a later step shows whether it does. Raises
    ValueNeeded where none does."""
    settling = work.settled_by()
    own = settling.unit(work.part.path)
    units = [unit for unit in (settling.shared, own) if unit is not None]
    done: list[tuple[Settled, list[SettledFile]]] = []
    for unit in units:
        settled = settling.settle(unit, work.ask)
        if work.preview:
            done.append((settled, [one for one in settled.files if one.changed]))
        else:
            done.append((settled, _write(work, unit, settled)))
    handed = _handed_on(work, [settled for settled, _ in done])
    work = work.after_stage(handed)
    result = [*handed.settings_shown]
    needed = _needed(result)
    if work.onboarded and needed and work.ends_with_settings:
        raise _value_needed(needed)
    changed = [one for _, files in done for one in files]
    if work.preview and changed:
        return replace(foreseen_settings(changed, _remarks(work, done, result)), hands_on=handed)
    done_result = _result(work, done, result)
    written = foreseen_settings(changed, ()).detail["files"] if changed else {}
    return replace(done_result, detail={**done_result.detail, "written": written}, hands_on=handed)


def _handed_on(work: Work, done: Sequence[Settled]) -> SettingsResult:
    """What the later stages get of the units that were settled."""
    values = dict(work.settings)
    for settled in done:
        values |= settled.values
    known = {one.what for one in work.contradictions}
    contradictions = {
        one.what: one for settled in done for one in settled.contradictions if one.what not in known
    }
    target = next((one.file.target for settled in done for one in settled.files), ".env")
    return SettingsResult(
        values,
        tuple(setting for settled in done for setting in settled.settings),
        database_of_settings(values, work.folder, target),
        (*work.contradictions, *contradictions.values()),
        digest_of(values),
    )


def _write(work: Work, unit: Unit, settled: Settled) -> list[SettledFile]:
    """Writes the unit's files and remembers where each value came from; returns what was written."""
    stage = work.settled_by().stage(unit)
    before = work.state.kept(unit.folder, SettingsWritten, stage)
    record = record_of(settled, before or SettingsWritten(), work.settled_by().salt(unit))
    changed = [one for one in settled.files if one.changed]
    for one in changed:
        path = work.clone / one.file.target
        if one.file.current is None or (one.file.tracked is not None and not path.exists()):
            work.making("file", path)
        note_written(work.state, one.file.target, one.text)
        if GIVEN_FOLDER in one.text:
            _make_folders(work, settled.settings)
        work.state.confined.write(path, one.text, mode=0o600)
        work.tree.forget(one.file.target)
    if changed or before is None or replace(before, salt=record.salt) != record:
        work.state.keep(unit.folder, record, stage)
    return changed


def _make_folders(work: Work, shown: Sequence[Setting]) -> None:
    """Makes the folders of ours that values name in place of a server's; of a file's the one that it is in."""
    for setting in shown:
        _, found, name = setting.value.partition(GIVEN_FOLDER)
        if found and setting.origin == "development value":
            inner = "" if "." in name.strip("/") else name.strip("/")
            work.state.confined.make_folder(f"{GIVEN_FOLDER}/{inner}".rstrip("/"))


def with_open_values(work: Work, error: PlainfallError) -> PlainfallError:
    """The failure of a step where values are open that the code seems to stop without: ValueNeeded if the output
    names one of them, else the same failure with a hint."""
    if not isinstance(error, CommandFailed | ServerFailed):
        return error
    needed = _needed(work.settings_shown)
    if not needed:
        return error
    text = "\n".join((error.cause, *error.lines))
    named = [one for one in needed if re.search(rf"\b{re.escape(one.key.rpartition('.')[2])}\b", text)]
    if named:
        known = _value_needed(named)
        known.lines, known.log = (*error.lines, *known.lines), error.log
        return known
    names = ", ".join(one.key for one in needed)
    error.remedy += (
        f" It may also be for want of {names}, which {'has' if len(needed) == 1 else 'have'} no value."
    )
    return error


def _needed(settings: Sequence[Setting]) -> list[Setting]:
    return [setting for setting in settings if setting.origin == "open" and setting.needed_by]


def _value_needed(needed: Sequence[Setting]) -> ValueNeeded:
    first = needed[0]
    names = ", ".join(setting.key for setting in needed)
    givable = [setting for setting in needed if "by hand" not in setting.note]
    remedy = f"Write {names} into {first.file}; it is yours, and Plainfall adds nothing to such a file."
    if givable:
        words = " ".join(f"--set {setting.key}=VALUE" for setting in givable)
        remedy = f"Run the same command with {words}, or write it into {first.file}."
    return ValueNeeded(
        f"{names}: only you know {'this value' if len(needed) == 1 else 'these values'}, and the code "
        "stops without",
        place=first.evidence,
        remedy=remedy,
        lines=tuple(f"{s.key} is read at {s.needed_by}: {s.needed_by.text}" for s in needed if s.needed_by),
    )


def _result(
    work: Work, done: Sequence[tuple[Settled, list[SettledFile]]], results: Sequence[Setting]
) -> StepResult:
    changed = [one for _, files in done for one in files]
    files = [one for settled, _ in done for one in settled.files if one.text or one.file.current is not None]
    made = [one for one in changed if one.file.current is None]
    written = [one for one in results if one.written]
    counts = {origin: sum(one.origin == origin for one in written) for origin in ORIGINS}
    text = ", ".join(f"{count} {ORIGINS[origin]}" for origin, count in counts.items() if count)
    names = ", ".join(one.file.target for one in (changed or files)) or "no file"
    verb = "made" if made else ("added to" if changed else "complete" if files else "is needed")
    templates = ", ".join(one.file.template_path for one in made if one.file.template_path)
    why = f"from {templates}" if templates else ("only what was missing is added" if changed else "")
    first = next((one.file.loaded for one in files if one.file.loaded is not None), None)
    evidence = (first,) if first is not None else tuple(one.evidence for one in results[:1])
    return StepResult(
        State.DONE if changed else State.KEPT,
        f"{names} {verb}" + (f": {text}" if text else ""),
        why,
        evidence,
        tuple(_remarks(work, done, results)),
        _detail(done, results),
        tuple(_origins(results)) if changed else (),
    )


def _origins(results: Sequence[Setting]) -> Iterator[str]:
    """Which keys were written with a value that the template does not have, by where it comes from."""
    for origin in ("generated", "matched", "development value"):
        keys = [one.key for one in results if one.origin == origin and one.written]
        if keys:
            yield f"{origin}: {', '.join(keys)}"
    lacking = [one.key for one in results if one.written and one.note.startswith("the template lacks")]
    if lacking:
        yield f"read by the code, and not in the template: {', '.join(lacking)}"


def _remarks(
    work: Work, done: Sequence[tuple[Settled, list[SettledFile]]], results: Sequence[Setting]
) -> list[str]:
    remarks = []
    for file in [one.file for settled, _ in done for one in settled.files if one.file.tracked is not None]:
        how = "" if file.target.endswith(".local") else ", whose values the part's commands get as variables"
        remarks.append(
            f"version control tracks {file.tracked_path}, so it is not written: what it lacks goes into "
            f"{file.target}{how}"
        )
    still_open = [one.key for one in results if one.origin == "open"]
    if still_open:
        remarks.append(f"open: {', '.join(still_open)} (the project may start without; --set KEY=VALUE)")
    if work.onboarded:
        installed = work.state.kept(work.part.key, Installed)
        names = [name.split()[0] for name in installed.names] if installed is not None else []
        missing = work.installing.missing_driver(work.settings, names)
        if missing is not None and installed is not None:
            key, package = missing
            remarks.append(f"{key} calls for a driver that the dependency list lacks: add {package} to it")
    return remarks


def _detail(done: Sequence[tuple[Settled, list[SettledFile]]], results: Sequence[Setting]) -> dict[str, Any]:
    files = [one.file.target for settled, _ in done for one in settled.files if one.text or one.changed]
    return {
        "file": files[0] if files else None,
        "files": files,
        "settings": [setting.as_json() for setting in results],
    }
