"""A database server, a cache or a broker that no setting addresses, and that the program looks for at its usual
port: the failure names the port, or the driver that was refused."""

from __future__ import annotations

import re
from collections.abc import Iterator

from msgspec.structs import replace

from plainfall.failure_facts import AddressRefused
from plainfall.onboarding.part.decisions import NamedService
from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Change, Failure
from plainfall.server.ports import holder_of
from plainfall.services.engine import engine_of
from plainfall.services.shape import ServiceKind, kinds

ORDER = 23
STAGES = frozenset({Stage.MIGRATIONS, Stage.SEEDS, Stage.TASKS, Stage.SERVER, Stage.PROBE})


def propose(work: Work, failure: Failure) -> Iterator[Change]:
    """One of the kind whose usual port is refused, at that port; only of kinds that let anybody in, since nothing
    says who is to come in."""
    facts, known = failure.error.facts, work.choices.services
    if not isinstance(facts, AddressRefused):
        return
    kind = next((one for one in kinds() if not one.default_user and _is_meant(one, facts, failure)), None)
    if kind is None or engine_of(kind.name) is None or any(one.kind == kind.name for one in known):
        return
    if holder_of(kind.port):
        return  # another address was refused
    addressed = work.settled_by().needs_with(work.part, work.settings_shown, work.settings)
    if any(one.kind == kind.name for one in addressed):
        return  # it was brought up, or could not be: that is said already
    yield Change(
        f"nothing answered at port {kind.port}: {kind.title} was started there: {{result}}",
        replace(work.decisions, services=(*known, NamedService(kind.name, kind.port))),
        Stage.SERVICES,
    )


def _is_meant(kind: ServiceKind, facts: AddressRefused, failure: Failure) -> bool:
    """Whether a refused connection was one to a service of the kind."""
    if facts.port:
        return kind.port == facts.port
    driver = rf"(?:site|dist)-packages/(?:{kind.drivers})[/.]"
    return bool(kind.drivers) and any(re.search(driver, line) for line in failure.error.lines)
