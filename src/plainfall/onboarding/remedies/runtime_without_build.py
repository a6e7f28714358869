"""A runtime for which a package that could not be built is published ready to use."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from plainfall.errors import BuildFailed
from plainfall.failure_facts import PackageNotBuilt
from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Change, Failure

ORDER = 44
STAGES = frozenset({Stage.DEPENDENCIES})


def propose(work: Work, failure: Failure) -> Iterator[Change]:
    """Only for a list whose versions are chosen, and where the person named no runtime."""
    error = failure.error
    if not isinstance(error, BuildFailed) or not isinstance(error.facts, PackageNotBuilt):
        return
    name, version = error.facts.package, error.facts.version
    if not version or work.choices.runtime.file is not None:
        return
    if work.decisions.ready_package is not None or not work.installing.may_resolve(work.part):
        return
    yield Change(
        f"{name} {version} cannot be built here, and is published ready for another runtime: {{result}}",
        replace(work.decisions, ready_package=(name, version)),
        Stage.RUNTIME,
    )
