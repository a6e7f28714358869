"""The page of a server that was started: asked for, looked at, and judged."""

from __future__ import annotations

import itertools
import re
import time
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec.structs import replace

from plainfall.diagnosis.reading import lines_that_matter, own_words
from plainfall.errors import ServerFailed
from plainfall.evidence import Evidence
from plainfall.kept_records import ServerKept
from plainfall.onboarding.part.planning import Planned
from plainfall.onboarding.part.results import ServerResult
from plainfall.onboarding.part.steps import State, Step, StepResult
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.order import proxy_targets
from plainfall.onboarding.stages.explaining import diagnose_for, mend_words
from plainfall.onboarding.stages.stage import Stage
from plainfall.onboarding.stages.starting import running_of
from plainfall.patterns import regex
from plainfall.server.faults import MISSING_FILES, PARTLY
from plainfall.server.logs import end_of_log
from plainfall.server.page import ENDS
from plainfall.server.ports import is_free
from plainfall.server.process import belonging
from plainfall.settings.answers import TEAM_FILE, set_up_values

if TYPE_CHECKING:  # asking over HTTP takes long to import, and most runs have a server that is kept
    from plainfall.server.probe import Probe

__all__ = ["best_page", "is_good_now", "plan", "probe"]

# Statuses by which a page of a server that has only an interface says that there is nothing to see.
_OF_INTERFACE = (400, 401, 403, 404, 405, 406, 422, 426)
_OPENS = regex(r"https?://(?:localhost|127\.0\.0\.1|0\.0\.0\.0|\[::1?\]):(\d{2,5})(/[\w./?=&%~-]+)")
_RESTARTS = 8.0  # seconds in which a server that answered before may start anew
_USUAL = ("/docs", "/health", "/healthz", "/api", "/ui/", "/status")  # where there is no first page
# Routes that are not asked for, though a mere request should change nothing.
_CHANGES = regex(
    r"log-?out|sign-?out|delete|remove|destroy|reset|drop|flush|clear|purge|stop|shutdown", re.IGNORECASE
)
_LINKS = 6  # of a page that does not exist that are asked for
# A server that refuses its own address, or whose code failed, is not one that wants values.
_REFUSED = regex(r"DisallowedHost|invalid host|Traceback|\bat .{1,300}:\d+:\d+|exception", re.IGNORECASE)
_ANSWERS = {
    401: "it asks for a login",
    405: "it wants another method than GET: it is an interface, not a page",
    406: "it answers in another form than a page: it is an interface",
    422: "it wants values with the request: it is an interface, not a page",
    426: "it wants another protocol: it is no page",
}


def plan(planned: Planned) -> Iterator[Step]:
    """The step that asks the part's server for its page."""
    if planned.part.candidates("server"):
        yield Step(planned.part.key, Stage.PROBE, "ask for the page", "", (), probe)


def probe(work: Work) -> StepResult:
    """Asks for the page; kept if this very server was probed well before. Raises ServerFailed if no page
    answers well."""
    record = work.server
    if record is None and work.preview and work.part.candidates("server"):
        return StepResult(State.TO_DO, "ask for the page", "the server starts before")
    if record is None:
        return StepResult(State.LEFT_OUT, "no server runs", "none was started")
    before = record.probe
    if before and not before["problem"]:
        return StepResult(
            State.KEPT,
            _probe_words(before),
            "this very server was probed before; `plainfall probe` asks it now",
            (),
            (),
            {"probe": before},
        )
    if work.preview:
        return StepResult(
            State.TO_DO, f"ask for the page at {record.url}", "it was not good, or not asked for, before"
        )
    result, tried = best_page(record.url, _pages(work, record))
    until = time.monotonic() + _RESTARTS
    while result.status == 0 and time.monotonic() < until and belonging(running_of(record)):
        # It answered before: one that watches files may have started anew, for what is written into the clone.
        time.sleep(0.3)
        result, tried = best_page(record.url, _pages(work, record))
    if result.status == 400 and "//localhost:" in record.url:
        # A server that checks host names may know itself by its address only.
        by_address = record.url.replace("//localhost:", "//127.0.0.1:")
        again, tried = best_page(by_address, _pages(work, record))
        if not again.problem:
            result = again
            record = replace(record, url=by_address)
    if result.status == 400 and not _REFUSED.search(end_of_log(Path(record.log))):
        result = replace(result, problem="", notes=(*result.notes, _ANSWERS[422]))
    lacks: tuple[str, ...] = ()
    if result.fault == PARTLY and not work.part.processes:
        lacks = (f"the page works, and not all of it: {result.problem}",)
        result = replace(result, problem="", notes=(*result.notes, *lacks))
    record = _keep_probe(work, record, result.as_json())
    if result.problem:
        raise probe_failure(work, record, result, tried)
    _check_proxy(work, record)
    return StepResult(
        State.DONE,
        _probe_words(result.as_json()),
        "" if len(tried) == 1 else f"asked in turn: {', '.join(tried)}",
        (),
        (*lacks, *_set_up(work, record, result)),
        {"probe": result.as_json()},
        hands_on=ServerResult(work.state.servers.get(work.part.key)),
    )


def _keep_probe(work: Work, record: ServerKept, page: dict[str, Any]) -> ServerKept:
    """Keeps what a page was with its server's record; returns that."""
    seen = replace(record, probe=page)
    work.state.keep_server(work.part.key, seen)
    return seen


def _set_up(work: Work, record: ServerKept, seen: Probe) -> tuple[str, ...]:
    """Fills the program's own installer where the team's file says so; else says that it waits. Returns remarks."""
    from plainfall.server.setting_up import is_installer

    if not is_installer(seen.url):
        return ()
    values = set_up_values(work.tree, work.part.path)
    if values is None:
        return (f"its own installer waits at {seen.url}: fill it there, or with: plainfall probe --set-up",)
    from plainfall.onboarding.uses.probe.accounts import Accounts

    notes: list[str] = []
    accounts = Accounts(work.state, work.part.key, record.url, work.part.pages, notes)
    done = accounts.fill_installer(work.clone.name.replace("-", " "), values)
    if done.state != "done":
        why = f"it wants {', '.join(done.lacks)}" if done.lacks else done.message or "it has no form"
        raise ServerFailed(
            f"{done.page}: the program's own installer was not filled: {why}",
            place=Evidence(TEAM_FILE),
            remedy=f"Give values by the names of its fields under [set-up] of {TEAM_FILE}, or fill it by hand.",
            log=record.log,
        )
    _keep_probe(work, record, best_page(record.url, _pages(work, record))[0].as_json())
    forms = "1 form" if done.forms == 1 else f"{done.forms} forms"
    return (f"set up by its own installer ({forms} filled); the account is in .plainfall/accounts.json",)


def _check_proxy(work: Work, record: ServerKept) -> None:
    """Raises ServerFailed where the dev server passes requests on to a port on which nothing listens, or somebody
    else in the place of the part that is meant: the page is there, and what it asks for is not."""
    settling = work.settled_by()
    moved = {
        wanted.port: part
        for part, wanted in settling.wanted.items()
        if part != work.part.key and settling.ports.get(part) not in (None, wanted.port)
    }
    passed = {work.settings[use] for use in _passed_on(work)}
    for place, port in proxy_targets(work.part, work.tree):
        if port == record.port or (not is_free(port) and port not in moved):
            continue
        if port in moved and any(str(settling.ports[moved[port]]) in value for value in passed):
            continue  # the setting from which the proxy takes its target says so
        holder = f"{moved[port] or 'the part at the top'} could not have" if port in moved else ""
        problem = (
            f"it passes requests on to port {port}, which {holder}: that one listens on "
            f"{settling.ports[moved[port]]}"
            if holder
            else f"nothing listens on port {port}, to which it passes requests on"
        )
        _keep_probe(work, record, {**(record.probe or {}), "problem": f"{problem} ({place})"})
        here = [
            f"{key or 'the part at the top'} listens on {other}"
            for key, other in settling.ports.items()
            if not is_free(other) and other != record.port
        ]
        raise ServerFailed(
            f"{record.url}: the page answers; {problem}",
            place=place,
            lines=tuple(here),
            remedy=f"End what holds port {port}, and run the same command again; or let {place.path} take the port "
            "from a setting."
            if holder
            else "Start what belongs there (another part, a service), or give it that port: --port.",
        )


def _passed_on(work: Work) -> list[str]:
    """The settings that the configuration of the part's dev server reads."""
    places = {place.path for place, _ in proxy_targets(work.part, work.tree)}
    return [
        one.key
        for one in work.settings_shown
        if one.key in work.settings and any(use.place.path in places for use in one.uses)
    ]


def is_good_now(work: Work) -> bool:
    """Whether a page of the part's server answers well."""
    record = work.server
    return record is not None and not best_page(record.url, _pages(work, record))[0].problem


def _pages(work: Work, record: ServerKept) -> tuple[str, ...]:
    """The part's pages, and those that the server says to open."""
    said = _OPENS.findall(end_of_log(Path(record.log))[:20_000])
    paths = [path.rstrip(".,;)") for port, path in said if int(port) == record.port]
    return tuple(dict.fromkeys((*(work.part.pages or ("/",)), *paths[:_LINKS])))


def routes_named(text: str, below: str = "") -> list[str]:
    """The paths without variables in a framework's own page about one that does not exist, those that are no
    administration first; with ``below`` those that it includes there.

    >>> routes_named("tried these URL patterns, in this order: admin/ stations/ <int:pk> The current path")
    ['/stations/', '/admin/']
    >>> routes_named("tried these URL patterns: admin/ stations/ list/ The current", "/stations/")
    ['/stations/list/']


    """
    _, marker, after = text.partition("tried these URL patterns")
    words = after.partition(" The current")[0].partition(" The empty path")[0].split()[:400] if marker else []
    plain = [word if re.fullmatch(r"(?:[\w.-]+/)+|[\w.-]+(?:/[\w.-]+)+", word) else "" for word in words]
    inner = below.lstrip("/")
    if inner:
        pairs = itertools.pairwise(plain)
        found = [
            f"{below}{second}" for first, second in pairs if first == inner and second not in ("", inner)
        ]
    else:
        found = [f"/{word}" for word in plain if word]
    found = [path for path in found if not _CHANGES.search(path)]
    return sorted(dict.fromkeys(found), key=lambda one: "admin" in one)


_BARE = 64  # characters of a text that says no more than its status does


def best_page(base: str, paths: tuple[str, ...]) -> tuple[Probe, list[str]]:
    """The first of the pages that answers well, else the first page's answer; and what was asked. A first page that
    does not exist (404, as data or in a few plain words), or wants more than was sent, says nothing against a
    server that has only an interface; one that asks for a login is what a person would see."""
    from plainfall.server.probe import probe_page

    tried: list[str] = []
    first: Probe | None = None
    for path in paths or ("/",):
        tried.append(path)
        result = probe_page(base.rstrip("/") + path)
        if not result.problem:
            return result, tried
        first = first or result
        if first.status == 404 and result.status in _ANSWERS:
            note = f"{first.url} does not exist, and the server or the project names this address"
            return replace(result, problem="", notes=(*result.notes, _ANSWERS[result.status], note)), tried
        if first.status == 404 and result.fault == PARTLY:
            return result, tried
        if first.status not in _OF_INTERFACE:
            break
    assert first is not None
    # An empty wiki's first page does not exist yet, and has all the links of the others; a framework's own page for
    # developers lists the routes that there are.
    links = [one for one in first.links if not ENDS.search(one)][:_LINKS]
    named = [base.rstrip("/") + path for path in routes_named(first.text)]
    usual = [base.rstrip("/") + path for path in _USUAL]
    for link in [*links, *named, *usual][: 2 * _LINKS] if first.status == 404 else ():
        tried.append(link.removeprefix(base.rstrip("/")))
        result = probe_page(link)
        if result.status == 404 and link in named:  # what it includes
            for path in routes_named(result.text, link.removeprefix(base.rstrip("/")))[:_LINKS]:
                tried.append(path)
                result = probe_page(base.rstrip("/") + path)
                if not result.problem or result.status in _ANSWERS:
                    break
        if result.status in _ANSWERS:
            result = replace(result, problem="", notes=(*result.notes, _ANSWERS[result.status]))
        if not result.problem:
            how = (
                "lists it as a route" if link in named else "this does" if link in usual else "links to this"
            )
            return replace(result, notes=(*result.notes, f"{first.url} does not exist, and {how}")), tried
    is_plain = first.media_type == "text/plain" and len(first.text) <= _BARE
    if first.status == 404 and (first.media_type.endswith("json") or is_plain):
        return replace(first, problem="", notes=(*first.notes, _ANSWERS[405])), tried
    if first.status in _ANSWERS:
        return replace(first, problem="", notes=(*first.notes, _ANSWERS[first.status])), tried
    return first, tried


def probe_failure(work: Work, record: ServerKept, result: Probe, tried: list[str]) -> ServerFailed:
    time.sleep(0.05)  # a server writes its log line after the answer is sent
    output = work.masked(end_of_log(Path(record.log)))
    known = diagnose_for(work, output)
    why = known.cause or own_words(lines_that_matter(output))
    missing = result.fault in (MISSING_FILES, PARTLY) and work.choices.left_out
    left_out = f"; left out, since it failed: {', '.join(work.choices.left_out)}" if missing else ""
    return ServerFailed(
        f"{result.url}: {result.problem}" + (f" ({why})" if why else "") + left_out,
        remedy=known.remedy + mend_words(work, known)
        or "Read what the server logged for this request. It is left running; the same command starts it anew.",
        lines=lines_that_matter(output),
        log=record.log,
        mend=known.mend,
        rule=known.rule,
        facts=known.facts,
        fault=result.fault,
    )


def _probe_words(page: dict[str, Any]) -> str:
    title = f' "{page["title"]}"' if page["title"] else ""
    assets = page["assets"]
    good = sum(1 for asset in assets if asset["status"] < 400)
    loads = f", {good} of {len(assets)} assets load" if assets else ""
    return f"{page['status']}{title}{loads}, first byte after {page['first_byte_seconds'] * 1000:.0f} ms"
