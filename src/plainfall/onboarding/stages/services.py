"""Services: the databases and caches that a part addresses on this machine answer before anything uses them."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from typing import TYPE_CHECKING

from plainfall.clone.parts import PartFound
from plainfall.errors import PlainfallError, ServiceFailed
from plainfall.evidence import Evidence
from plainfall.kept_records import DriverVariables, ServerPrograms
from plainfall.onboarding.part.decisions import NamedService
from plainfall.onboarding.part.planning import Planned
from plainfall.onboarding.part.results import ServicesResult
from plainfall.onboarding.part.steps import State, Step, StepResult
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.services.private_servers import Brought, bring_up, foreseen_service
from plainfall.onboarding.stages.stage import Stage
from plainfall.services.needs import ServiceNeed
from plainfall.services.shape import kind_named
from plainfall.settings.setting import Consent, agrees

if TYPE_CHECKING:
    from plainfall.services.engine import Program

__all__ = ["plan", "services", "with_lacking_services", "with_named_services"]


def plan(planned: Planned) -> Iterator[Step]:
    """The step that brings up what the part addresses, as far as can be said before its settings are filled; where
    nothing is, the step is there for a search that finds a service named."""
    part = planned.part
    needs = planned.settling.needs_of_part(part)
    needs = [*needs, *with_named_services(planned.services, part, needs)]
    if not needs:
        yield Step(part.key, Stage.SERVICES, "bring up servers", "", (), services, on_demand=True)
        return
    names = " and ".join(dict.fromkeys(kind_named(one.kind).title for one in needs))
    places = tuple(dict.fromkeys(one.place for one in needs))
    yield Step(part.key, Stage.SERVICES, f"bring up {names}", "", places, services)


def services(work: Work) -> StepResult:
    """Brings up every server that the part's settings and sources address on this machine, at the same time. Where
    no program of one is here, that is said, and the run goes on: the part may do without. Raises ServiceFailed."""
    needs = work.settled_by().needs_with(work.part, work.settings_shown, work.settings)
    needs += with_named_services(work.choices.services, work.part, needs)
    if not needs:
        return StepResult(State.LEFT_OUT, "no server is needed", "the settings address none on this machine")
    brought = [foreseen_service(work.state, need) for need in needs] if work.preview else _all(work, needs)
    handed = ServicesResult(
        lacking=tuple(one.text for one in brought if one.state == "lacking"),
        servers_used=tuple(sorted(one.identity for one in brought if one.identity)),
        server_databases=tuple(
            dict.fromkeys(
                (one.name, account.database)
                for one in brought
                for account in one.need.accounts
                if one.name and one.identity and account.database
            )
        ),
    )
    if not work.preview:
        work.state.keep(work.part.key, DriverVariables(variables=_driver_variables(work, brought)))
    states = {one.state for one in brought}
    done = State.TO_DO if work.preview else State.DONE
    state = done if "done" in states else State.LEFT_OUT if states == {"lacking"} else State.KEPT
    met = [one for one in brought if one.state != "lacking"]
    title = "; ".join(one.text for one in met) or "nothing was brought up"
    remarks = [*handed.lacking, *(remark for one in brought for remark in one.remarks)]
    places = tuple(dict.fromkeys(one.need.place for one in brought))
    detail = {
        "services": [
            {"kind": one.need.kind, "port": one.port or one.need.port, "state": one.state} for one in brought
        ]
    }
    why = "; ".join(_why(one.need) for one in met)
    return StepResult(state, title, why, places, tuple(remarks), detail, hands_on=handed)


def with_named_services(
    named: Sequence[NamedService], part: PartFound, known: Sequence[ServiceNeed]
) -> list[ServiceNeed]:
    """The needs of services that only a failure named, beyond those that are ``known``."""
    kinds, places = {one.kind for one in known}, part.candidates("server")
    place = places[0].evidence if places else Evidence(part.path)
    return [ServiceNeed(one.kind, one.port, (), place, fixed=True) for one in named if one.kind not in kinds]


def _driver_variables(work: Work, brought: list[Brought]) -> dict[str, str]:
    """What drivers read where a configuration in the sources says no host, or ``localhost``, which means a socket
    to some: they would look for that of the system's own server."""
    from plainfall.services.engine import engine_of  # most parts have no server

    found: dict[str, str] = {}
    for one in brought:
        account = one.need.accounts[0] if one.need.accounts else None
        service = work.state.services.get(one.name) if one.name else None
        sockets = service.sockets if service is not None else ""
        engine = engine_of(one.need.kind)
        if engine is None or not sockets:
            continue
        if one.need.fixed or engine.localhost_is_a_socket:
            found |= engine.driver_variables(sockets, one.port or one.need.port, account)
    return found


def _all(work: Work, needs: list[ServiceNeed]) -> list[Brought]:
    """Those of one kind after each other, since they share names and programs; kinds at the same time."""
    kinds: dict[str, list[ServiceNeed]] = {}
    for need in needs:
        kinds.setdefault(need.kind, []).append(need)

    fetch = _fetching(work, kinds)

    def of_kind(some: list[ServiceNeed]) -> list[Brought] | PlainfallError:
        try:
            return [bring_up(work.state, work.surroundings, need, fetch) for need in some]
        except PlainfallError as error:
            return error

    if len(kinds) == 1:
        results = [of_kind(needs)]
    else:
        from concurrent.futures import ThreadPoolExecutor

        with ThreadPoolExecutor(len(kinds)) as pool:
            results = list(pool.map(of_kind, kinds.values()))
    brought: list[Brought] = []
    for result in results:
        if isinstance(result, PlainfallError):
            raise result
        brought += result
    return brought


def _fetching(work: Work, kinds: Collection[str]) -> Callable[[ServiceNeed], Program | None] | None:
    """What fetches a server's program, where the person agreed: by the option, in a run before, or now, when
    they are asked for each kind that this machine lacks."""
    if work.choices.fetch_services:
        work.state.keep("", ServerPrograms(agreed=True))
    agreed = work.state.read("", ServerPrograms).agreed
    allowed = {kind for kind in kinds if kind_named(kind).fetched and (agreed or _may_fetch(work, kind))}
    if not allowed:
        return None
    if not agreed:
        work.state.keep("", ServerPrograms(agreed=True))

    def fetch(need: ServiceNeed) -> Program | None:
        if need.kind not in allowed:
            return None
        from plainfall.onboarding.services.fetched import fetched_program  # rarely needed

        return fetched_program(need.kind, need.version, work.surroundings, work.progress)

    return fetch


def _may_fetch(work: Work, kind: str) -> bool:
    from plainfall.services.engine import engine_of

    engine = engine_of(kind)
    if work.ask is None or engine is None or engine.programs(work.surroundings.search_path()):
        return False
    known = kind_named(kind)
    why = f"It is not on this machine. It comes from your own package registry ({known.fetched})."
    return agrees(work.ask, Consent(f"May {known.title} be fetched?", why))


def _why(need: ServiceNeed) -> str:
    if need.via:
        return f"{need.via} addresses it"
    return "the sources address it" if need.fixed else "the clone defines it"


def with_lacking_services(work: Work, error: PlainfallError) -> PlainfallError:
    """The failure of a later step, with what could not be brought up in its remedy."""
    if work.lacking and not isinstance(error, ServiceFailed):
        error.remedy = f"{error.remedy} It may be for want of a server: {' '.join(work.lacking)}".strip()
    return error
