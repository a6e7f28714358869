"""The record of how a clone was got running: gathered from what was kept of its runs, and from a look at it now."""

from __future__ import annotations

import base64
import tempfile
import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

from msgspec import Struct, field

from plainfall.clone.parts import Contradiction, PartFound, Survey
from plainfall.ecosystems import title_of
from plainfall.errors import NothingToOnboard, PlainfallError
from plainfall.kept_records import CheckKept, ChecksKept, RuntimeTaken
from plainfall.onboarding.part.settling import Settling
from plainfall.onboarding.records.outcome import RunRecord, run_record
from plainfall.onboarding.records.state import CloneState
from plainfall.onboarding.run.clone_root import CloneFolder, survey_of
from plainfall.onboarding.uses.data.looking import DatabaseLook, LookAtClone
from plainfall.onboarding.uses.report.by_hand import HandPart, commands_by_hand, script_by_hand
from plainfall.plain_files import plain_bytes
from plainfall.server.browser import browser_here
from plainfall.server.picture import take_picture
from plainfall.server.process import Running, belonging
from plainfall.settings.unit_settings import Settled
from plainfall.surroundings import Surroundings
from plainfall.survey.history import Brief, brief_of

__all__ = ["Report", "ServerShown", "report_of"]


class ServerShown(Struct, frozen=True):
    """A server of the record: its part, address, start command, whether it runs now, its probe, and a picture of
    its page (a PNG in base64, "" for none)."""

    part: str
    url: str
    command: str
    runs: bool
    probe: Mapping[str, Any]
    picture: str = ""


class Report(Struct):
    """All that a report shows. ``steps`` are the rows of the last run's steps, each with the row of when it was
    last carried out; ``mended`` what was done after failures, in words; ``commands`` each part's commands by
    hand, in short; ``notes`` what could not be looked at."""

    name: str
    clone: Path
    at: str
    brief: Brief | None
    survey: Survey
    record: RunRecord
    settled: list[Settled]
    contradictions: list[Contradiction]
    databases: list[DatabaseLook]
    servers: list[ServerShown]
    checks: dict[str, dict[str, CheckKept]]
    script: str
    steps: list[tuple[dict[str, Any], dict[str, Any]]] = field(default_factory=list)
    mended: list[str] = field(default_factory=list)
    commands: list[tuple[str, list[str]]] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)

    def title_of_part(self, key: str) -> str:
        """A part as people know it."""
        part = next((one for one in (*self.survey.parts, *self.survey.others) if one.key == key), None)
        return f"{key or self.name} ({title_of(part.language)})" if part is not None else key or self.name

    @property
    def parts(self) -> list[PartFound]:
        """The parts in the order in which the last run worked on them."""
        order = list(dict.fromkeys(row["part"] for row, _ in self.steps))
        known = {one.key: one for one in self.survey.parts}
        return [known[key] for key in order if key in known]


def report_of(
    place: CloneFolder, surroundings: Surroundings, *, pictures: bool, tell: Callable[[str], None]
) -> Report:
    """The report of the clone's last run; with ``pictures`` one of each page that answers, where a browser is here.
    Changes nothing. Raises NothingToOnboard where no run was recorded, and what the survey raises."""
    state = CloneState(place.clone, surroundings.state)
    record = run_record(state)
    if record is None:
        raise NothingToOnboard(
            f"no run of yours is recorded in {place.clone}", remedy="Bring it up first: plainfall onboard"
        )
    survey, tree, _ = survey_of(CloneFolder(place.clone), (), state, surroundings)
    settling = Settling(survey, tree, state, {}, surroundings.variables)
    settled = [settling.settle(unit, None) for unit in settling.units]
    notes: list[str] = []
    steps = [
        (row, record.done.get(key, row)) for key, row in zip(_keys(record), record.last["steps"], strict=True)
    ]
    contradictions = [*survey.contradictions, *(one for each in settled for one in each.contradictions)]
    report = Report(
        survey.name, place.clone, time.strftime("%Y-%m-%d %H:%M"), brief_of(place.clone, surroundings.variables),
        survey, record, settled, list({one.what: one for one in contradictions}.values()),
        _databases(place, surroundings, notes), _servers(state, record, surroundings, notes, pictures, tell),
        {part.key: rows for part in survey.parts if (rows := state.read(part.key, ChecksKept).results)},
        "", steps, notes=notes,
    )  # fmt: skip
    report.mended = [text for _, done in steps for text in done["remarks"] if _tells_of_mending(text)]
    at = str(record.runs[-1]["at"]) if record.runs else report.at
    by_hand = _by_hand(report, state)
    report.script = script_by_hand(survey.name, at, by_hand, state)
    report.commands = [(one.part.key, commands_by_hand(one, state)) for one in by_hand]
    return report


def _keys(record: RunRecord) -> list[str]:
    seen: dict[tuple[str, str], int] = {}
    keys = []
    for row in record.last["steps"]:
        place = row["part"], row["stage"]
        seen[place] = seen.get(place, 0) + 1
        keys.append(f"{row['part']}|{row['stage']}|{seen[place]}")
    return keys


def _tells_of_mending(text: str) -> bool:
    return text.startswith("mended: ") or "(before that: " in text or " failed and was run once more" in text


def _databases(place: CloneFolder, surroundings: Surroundings, notes: list[str]) -> list[DatabaseLook]:
    try:
        look = LookAtClone(CloneFolder(place.clone), None, surroundings)
    except PlainfallError as error:
        notes.append(f"the databases were not looked into: {error.cause}")
        return []
    return [look.look(one) for one in look.found]


def _servers(
    state: CloneState,
    record: RunRecord,
    surroundings: Surroundings,
    notes: list[str],
    pictures: bool,
    tell: Callable[[str], None],
) -> list[ServerShown]:
    now = {key: row for key, row in state.servers.items() if row.pid and belonging(Running.of_record(row))}
    browser = browser_here(surroundings.variables.get("PATH", "")) if pictures else None
    if pictures and browser is None and now:
        notes.append("there is no picture of the pages: no browser is on this machine")
    shown = []
    for row in record.last["servers"]:
        live = now.get(row["part"])
        picture = ""
        if browser is not None and live is not None and live.url:
            tell(f"taking a picture of {live.url}")
            picture = _picture(browser, live.url, surroundings, notes)
        url, command, probe = (row.get(name) for name in ("url", "command", "probe"))
        if live is not None:
            url, command, probe = live.url, live.command, live.probe
        shown.append(
            ServerShown(
                row["part"], str(url or ""), str(command or ""), live is not None, probe or {}, picture
            )
        )
    return shown


def _picture(browser: str, url: str, surroundings: Surroundings, notes: list[str]) -> str:
    with tempfile.TemporaryDirectory(prefix="plainfall-") as folder:
        file = Path(folder, "page.png")
        try:
            take_picture(browser, url, file, surroundings.variables)
            return base64.b64encode(plain_bytes(file)).decode()
        except (PlainfallError, OSError) as error:
            notes.append(f"no picture of {url}: {error}")
            return ""


def _by_hand(report: Report, state: CloneState) -> Sequence[HandPart]:
    found = []
    servers = {row["part"]: row for row in report.record.last["servers"]}
    for part in report.parts:
        rows: dict[str, dict[str, Any]] = {}
        for row, done in report.steps:
            if row["part"] == part.key:
                rows.setdefault(row["stage"], done)
        own = [
            one
            for one in report.settled
            if (one.unit.folder == part.path and not one.unit.client) or one.unit.shared
        ]
        if part.is_secondary:
            own = []
        own += [one for one in report.settled if one.unit.client and one.unit.folder == part.path]
        runtime = state.read(part.key, RuntimeTaken)
        unique = list({id(one): one for one in own}.values())
        found.append(HandPart(part, unique, rows, servers.get(part.key), runtime.version, runtime.file))
    return found
