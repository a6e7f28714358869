"""Settings: the file is made from its template, or added to."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from plainfall.data.sqlite import database_of_settings
from plainfall.errors import ValueNeeded
from plainfall.onboarding.steps import State, StepResult
from plainfall.onboarding.work import Work
from plainfall.settings.dotenv import Dotenv, parse_dotenv
from plainfall.settings.filling import Filled, Setting, fill
from plainfall.writing import digest_of, write_whole

__all__ = ["settings"]


def settings(work: Work) -> StepResult:
    """Fills the settings file. Raises ValueNeeded if a value that only the person has is still open and
    the code stops without it."""
    found = work.part.settings
    target = found.target if found else (f"{work.part.path}/.env" if work.part.path else ".env")
    template = parse_dotenv(work.tree.text(found.template), found.template) if found else None
    file = work.clone / target
    there = _there(work, file, target)
    before = work.state.record(work.part.path, "settings")
    names = found.keys if found else ()
    needed = work.language.required_settings(work.tree, work.part.path, names) if names else {}
    filled = fill(
        template,
        there,
        template_path=found.template if found else target,
        target_path=target,
        given=work.wishes.given,
        needed=needed,
        ours=before.get("made") == target,
        ask=work.ask,
    )
    changed = there is None or filled.text != there.text
    if changed:
        if there is None:
            work.making("file", file)
            before = {"made": target}
        write_whole(file, filled.text, mode=0o600)
        work.state.keep(work.part.path, "settings", before)
    document = parse_dotenv(filled.text, target)
    work.settings = document.values()
    work.settings_shown = filled.settings
    work.database = database_of_settings(work.settings, work.folder, target)
    work.fingerprints["settings"] = digest_of(work.settings)
    _stop_if_open(filled.settings, target)
    result = _result(filled, target, changed, there is None, found.template if found else None)
    installed = work.state.record(work.part.path, "dependencies").get("names")
    missing = work.language.missing_driver(work.settings, [name.split()[0] for name in installed or ()])
    if missing is None or installed is None:
        return result
    key, package = missing
    remark = f"{key} calls for a driver that the dependency list lacks: add {package} to it"
    return replace(result, remarks=(*result.remarks, remark))


def _there(work: Work, file: Path, target: str) -> Dotenv | None:
    """What stands in the file; None if it is not there. Read afresh: the person may have edited it."""
    if not file.exists():
        return None
    work.tree.forget(target)
    return parse_dotenv(work.tree.text(target), target)


def _stop_if_open(settings: Sequence[Setting], target: str) -> None:
    needed = [setting for setting in settings if setting.origin == "open" and setting.needed_by]
    if needed:
        first = needed[0]
        names = ", ".join(setting.key for setting in needed)
        raise ValueNeeded(
            f"{names}: only you know {'this value' if len(needed) == 1 else 'these values'}, and the code "
            "stops without",
            place=first.evidence,
            remedy="Run the same command with "
            + " ".join(f"--set {setting.key}=VALUE" for setting in needed)
            + f", or write it into {target}.",
            lines=tuple(
                f"{s.key} is read at {s.needed_by}: {s.needed_by.text}" for s in needed if s.needed_by
            ),
        )


def _result(filled: Filled, target: str, changed: bool, made: bool, template: str | None) -> StepResult:
    counts: dict[str, int] = {}
    for setting in filled.settings:
        counts[setting.origin] = counts.get(setting.origin, 0) + 1
    words = {
        "template": "as in the template",
        "generated": "generated",
        "given": "given by you",
        "asked": "asked",
        "there already": "there already",
        "optional": "optional",
        "open": "open",
    }
    said = ", ".join(f"{counts[origin]} {text}" for origin, text in words.items() if origin in counts)
    verb = "made" if made else ("added to" if changed else "complete")
    generated = [setting.key for setting in filled.settings if setting.origin == "generated"]
    still_open = [setting.key for setting in filled.settings if setting.origin == "open"]
    remarks = [f"generated: {', '.join(generated)}"] if generated and changed else []
    if still_open:
        remarks.append(f"open: {', '.join(still_open)} (the project may start without; --set KEY=VALUE)")
    return StepResult(
        State.DONE if changed else State.KEPT,
        f"{target} {verb}" + (f": {said}" if said else ""),
        f"from {template}" if template and made else ("only what was missing is added" if changed else ""),
        tuple(setting.evidence for setting in filled.settings[:1]),
        tuple(remarks),
        {"file": target, "settings": [setting.as_json() for setting in filled.settings]},
    )
