"""The project's own checks: found the way start commands are found, run in the part's environment, once and
counted."""

from __future__ import annotations

import os
import shlex
import sys
import time
from collections.abc import Callable, Collection, Iterable, Sequence
from pathlib import Path
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from plainfall.clone.checks import CheckFound, best_of_kinds
from plainfall.clone.parts import PartFound, Survey
from plainfall.clone.second_processes import SecondProcess
from plainfall.clone.walk import Tree
from plainfall.diagnosis.test_results import (
    LARGEST_REPORT,
    Failure,
    Results,
    results_of_output,
    results_of_report,
)
from plainfall.errors import CommandFailed, PlainfallError, UsageProblem
from plainfall.kept_records import CheckKept, ChecksKept
from plainfall.onboarding.part.byproducts import ByProducts
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.records.state import FOLDER, CloneState
from plainfall.onboarding.run.clone_root import CloneFolder, survey_of
from plainfall.onboarding.stages.commands import end_leftovers, run_command
from plainfall.onboarding.stages.probe import best_page
from plainfall.onboarding.stages.second_processes import start_second_process
from plainfall.onboarding.uses.check.build_output import Built, built_since, left_by_a_server
from plainfall.onboarding.uses.check.found_checks import (
    checks_of,
    missing_tool,
    report_arguments,
    what_installs,
    with_arguments,
)
from plainfall.onboarding.uses.check.test_databases import settings_for_tests, watched_database
from plainfall.onboarding.uses.inside import work_of
from plainfall.server.browser import browser_here
from plainfall.server.logs import end_of_log
from plainfall.server.ports import free_port
from plainfall.server.process import new_mark
from plainfall.surroundings import Surroundings

__all__ = ["CheckDone", "run_checks"]

_BUILT_PORT = 8180  # the first that is tried for a built site
_ANSWERS = 10.0  # seconds within which it must answer
_REPORTS = (
    "htmlcov/index.html", "coverage/index.html", "coverage/lcov-report/index.html", "playwright-report/index.html",
    "mochawesome-report/mochawesome.html", "cypress/reports/index.html", "test-results/index.html", "coverage.xml",
    "reports/index.html", "build/coverage/index.html",
)  # fmt: skip
_BROWSERS = ("karma", "playwright", "cypress", "dusk", "rails")


class CheckDone(Struct):
    """What came of one check: ``state`` is "good", "failed" or "left out", with the reason; ``reports`` are pages
    that it wrote, ``built`` what a build made, ``served`` the process
    that serves it."""

    part: str
    check: CheckFound
    state: str
    why: str = ""
    results: Results = field(default_factory=Results)
    seconds: float = 0.0
    lines: tuple[str, ...] = ()
    remedy: str = ""
    log: str = ""
    reports: tuple[str, ...] = ()
    built: Built | None = None
    served: dict[str, Any] | None = None
    remarks: list[str] = field(default_factory=list)


def run_checks(
    place: CloneFolder,
    names: Sequence[str],
    kinds: Collection[str],
    arguments: Sequence[str],
    surroundings: Surroundings,
    tell: Callable[[str], None],
    ended: Callable[[CheckDone], None],
    serve: bool = False,
) -> list[CheckDone]:
    """Runs the best check of each kind of the parts; ``arguments`` are added to the command line of the one kind
    that is asked for. ``tell`` hears each line of output, ``ended`` each result. Raises UsageProblem,
    NothingToOnboard, CloneBusy."""
    state = CloneState(place.clone, surroundings.state)
    survey, tree, parts = survey_of(place, names, state, surroundings)
    if arguments and len(kinds) != 1:
        raise UsageProblem(
            "arguments behind two dashes are for one kind of check",
            remedy="Name it: plainfall check --kind tests -- ARGUMENTS",
        )
    chosen = [one for one in survey.parts if parts is None or one.key in {part.key for part in parts}]
    done: list[CheckDone] = []
    with state.locked():
        for mark, (_, group) in state.commands.items():  # what a run that was killed left at work
            end_leftovers(mark, group)
            state.keep_command(mark, None)
        byproducts = ByProducts(state, tree, survey.parts)
        for part in chosen:
            every = best_of_kinds(checks_of(tree, part, survey))
            wanted = [one for one in every if not kinds or one.kind in kinds]
            if not wanted:
                continue
            work = _work(place, survey, tree, state, part, surroundings, byproducts, tell)
            for check in wanted:
                if isinstance(work, CheckDone):
                    one = replace(work, check=check)
                else:
                    one = _run(work, check, arguments, asked=check.kind in kinds)
                    _look_at_build(work, one, byproducts, serve=serve)
                done.append(one)
                ended(one)
            if not isinstance(work, CheckDone):
                rows = {one.check.kind: _row(one) for one in done if one.part == part.key}
                before = state.read(part.key, ChecksKept).results
                state.keep(part.key, ChecksKept(results={**before, **rows}))
        remarks = byproducts.remarks()
        if done:
            done[-1].remarks += remarks
    return done


def _look_at_build(work: Work, done: CheckDone, byproducts: ByProducts, *, serve: bool) -> None:
    """Notes what a build has made as ours, and puts it up where it is to be (``serve``)."""
    if done.built is None:
        return
    byproducts.claimed.add(os.path.join(work.part.path, done.built.folder, ""))
    if serve and done.state == "good":
        if done.built.page:
            done.served = serve_built(work, done.built, done)
        else:
            done.remarks.append(f"{done.built.folder} has no first page: it is no static site to serve")


def _work(
    place: CloneFolder,
    survey: Survey,
    tree: Tree,
    state: CloneState,
    part: PartFound,
    surroundings: Surroundings,
    byproducts: ByProducts,
    tell: Callable[[str], None],
) -> Work | CheckDone:
    """The part's work, or why nothing of it can be checked."""
    nothing = CheckDone(part.key, CheckFound("", "", "", 0, part.evidence[0]), "left out")
    try:
        work = work_of(place.clone, survey, tree, state, part, surroundings)
    except PlainfallError as error:
        return replace(nothing, why=error.cause, remedy=error.remedy)
    standing = work.standing()
    if standing.state != "right":
        why = f"the part has no environment yet ({standing.path} is {standing.state})"
        return replace(nothing, why=why, remedy="Make it with: plainfall onboard")
    work = replace(work, byproducts=byproducts, progress=lambda number, whole, line: tell(line))
    work.prepare()
    return work


def _run(work: Work, check: CheckFound, arguments: Sequence[str], *, asked: bool) -> CheckDone:
    done = CheckDone(work.part.key, check, "left out")
    variables = work.variables()
    why, remedy = _hindrance(work, check, variables["PATH"], asked=asked)
    if why:
        return replace(done, why=why, remedy=remedy)
    tests = check.kind in ("tests", "end-to-end")
    settings = dict(work.settings)
    own: frozenset[str] = frozenset()
    if tests:
        told = settings_for_tests(work)
        if told.refused:
            remedy = "Write the settings of tests into .env.test; then check again."
            return replace(done, why=told.refused, remedy=remedy)
        settings, own = {**told.values, **work.language.test_mode}, told.own
        done.remarks += told.notes
    settings = {key: value for key, value in settings.items() if key not in own}
    settings |= {"CI": "true", **_browser(work, check, variables["PATH"], done.remarks)}
    if check.kind == "build":
        settings.pop("NODE_ENV", None)
    report = (
        work.state.confined.own_folder(f"{FOLDER}/checks/{work.state.name_of(work.part.key)}") / "junit.xml"
    )
    work.state.confined.remove(report)
    line = with_arguments(check, [*report_arguments(check, report), *arguments])
    variables_of = {**work.part.variables, **work.language.test_mode} if tests else work.part.variables
    inner = _copy_for(work, settings, variables_of)
    log, began = str(work.state.log(work.part.key, f"check-{check.kind}")), time.time()
    try:
        if tests:
            with watched_database(work, done.remarks):
                done.remarks += run_command(inner, f"check-{check.kind}", line, new_mark(), check.evidence)
        else:
            done.remarks += run_command(inner, f"check-{check.kind}", line, new_mark(), check.evidence)
        state, failure = "good", None
    except CommandFailed as error:
        state, failure = "failed", error
    seconds = time.time() - began
    results = _report_of(work, report) if tests else None
    if results is None:
        results = results_of_output(end_of_log(Path(log), 400_000), check.kind)
    here = f"{work.clone}/"
    failures = tuple(
        Failure(one.name.replace(here, ""), one.text.replace(here, "")) for one in results.failures
    )
    done = replace(done, state=state, results=replace(results, failures=failures), seconds=seconds, log=log)
    if failure is not None:
        known = any(failure.rule) if failure.rule else False
        done = replace(done, why=failure.cause, lines=failure.lines, remedy=failure.remedy if known else "")
    done = replace(done, reports=tuple(_reports(work, began)))
    is_built = check.kind == "build" and state == "good"
    return replace(done, built=built_since(work.folder, began)) if is_built else done


def _hindrance(work: Work, check: CheckFound, path: str, *, asked: bool) -> tuple[str, str]:
    """Why a check cannot be run now, and what to do about it; "" for nothing."""
    missing = missing_tool(work, check, path)
    if missing:
        return missing, check.brought_by or what_installs(work)
    server = left_by_a_server(work) if check.kind == "build" else ""
    if server:
        return server, "End it first: plainfall stop; then check again."
    record = work.state.servers.get(work.part.key)
    if check.kind == "end-to-end" and not asked and record and record.pid:
        why = "they would work on the running dev server, and on its data"
        return why, "End it first (plainfall stop), or ask for them: --kind end-to-end"
    return "", ""


def _report_of(work: Work, report: Path) -> Results | None:
    """What a runner's report says. The tests could have put anything in its place: only a plain file is read."""
    try:
        with open(work.state.confined.open(report, os.O_RDONLY), "rb") as file:
            return results_of_report(file.read(LARGEST_REPORT + 1))
    except (OSError, PlainfallError):
        return None


def _copy_for(work: Work, settings: dict[str, str], variables: Any) -> Work:
    """The same part with other settings; what it changes is watched as ever."""
    return replace(work, settings=settings, part=replace(work.part, variables=variables))


def _row(done: CheckDone) -> CheckKept:
    """What is kept of a result."""
    return CheckKept(
        command=done.check.line,
        state=done.state,
        why=done.why,
        words=done.results.words,
        seconds=round(done.seconds, 3),
        at=time.strftime("%Y-%m-%d %H:%M"),
        failures=tuple((one.name, one.text) for one in done.results.failures[:8]),
        place=str(done.check.evidence),
    )


def _browser(work: Work, check: CheckFound, path: str, remarks: list[str]) -> dict[str, str]:
    """Variables by which tools find a browser of this machine; that there is none is said where one is needed."""
    if check.kind != "end-to-end" and check.tool not in _BROWSERS:
        return {}
    browser = browser_here(path)
    if browser is None:
        remarks.append(
            "no browser was found on this machine: on Debian and its kin: sudo apt-get install chromium"
        )
        return {}
    found = {"CHROME_BIN": browser, "CHROMIUM_BIN": browser, "PUPPETEER_EXECUTABLE_PATH": browser}
    server = work.state.servers.get(work.part.key)
    url = server.url if server is not None else ""
    return {**found, **({"BASE_URL": url, "CYPRESS_BASE_URL": url.rstrip("/")} if url else {})}


def _reports(work: Work, began: float) -> Iterable[str]:
    for name in _REPORTS:
        place = work.folder / name
        if place.is_file() and place.stat().st_mtime >= began - 1:
            yield os.path.relpath(place, work.clone)


def serve_built(work: Work, built: Built, done: CheckDone) -> dict[str, Any]:
    """Puts a built static site up on loopback and asks for its page; returns its process and log, ``url`` and
    ``probe``. It stays up until `plainfall stop`. The clone is locked by the caller. Raises CommandFailed where
    it ends at once."""
    port = free_port(_BUILT_PORT, {row.port for row in work.state.servers.values()})
    place = work.folder / built.page
    line = shlex.join([sys.executable, "-I", "-m", "plainfall.server.static_site", str(place), str(port)])
    record = start_second_process(work, SecondProcess(f"built {built.page}"[:60], line, done.check.evidence))
    url = f"http://127.0.0.1:{port}/"
    until = time.monotonic() + _ANSWERS
    result, _ = best_page(url, ("/",))
    while result.status == 0 and time.monotonic() < until:
        time.sleep(0.1)
        result, _ = best_page(url, ("/",))
    row = {"pid": record.pid, "command": record.command, "log": record.log}
    return {**row, "url": url, "probe": result.as_json()}
