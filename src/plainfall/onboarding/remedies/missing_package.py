"""A module or a program that is not installed, and that another list of the project names, or an extra."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator

from msgspec.structs import replace

from plainfall.failure_facts import CommandMissing, DriverMissing, ModuleMissing
from plainfall.onboarding.part.decisions import PackageAdded
from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Change, Failure

ORDER = 41
STAGES = frozenset({Stage.MIGRATIONS, Stage.SEEDS, Stage.TASKS, Stage.SERVER, Stage.PROBE})


def propose(work: Work, failure: Failure) -> Iterator[Change]:
    """The extra that lists the package, if one does; else the package by itself."""
    error, listed = failure.error, work.part.dependencies
    if listed is None:
        return
    match error.facts:
        case ModuleMissing(module=wanted) | CommandMissing(command=wanted) | DriverMissing(driver=wanted) if (
            wanted
        ):
            pass
        case _:
            return
    if isinstance(error.facts, ModuleMissing) and "." not in wanted:
        wanted = _as_imported(wanted, error.lines)
    addition = work.installing.package_for(work.tree, work.part, wanted)
    if addition is None:
        return
    decisions = work.decisions
    had = {one.requirement for one in decisions.packages} | {one.text for one in listed.additions}
    extra = work.installing.extra_with(work.tree, work.part, addition)
    if extra and extra not in work.choices.packages.extras:
        words = f"the extra {extra}, which lists {addition.text}, was installed, too"
        yield Change(
            f"{wanted} was missing: {words} ({addition.evidence}): {{result}}",
            replace(decisions, extras=(*decisions.extras, extra)),
            Stage.DEPENDENCIES,
        )
    group = "" if extra else work.installing.group_with(work.tree, work.part, addition)
    if group and group not in work.choices.packages.groups:
        words = f"the group {group}, which lists {addition.text}, was installed, too"
        yield Change(
            f"{wanted} was missing: {words} ({addition.evidence}): {{result}}",
            replace(decisions, groups=(*decisions.groups, group)),
            Stage.DEPENDENCIES,
        )
    if addition.text in had:
        return
    more = [addition]
    if addition.is_well_known:
        more += [
            one
            for one in listed.unlisted
            if one.is_well_known and one.text not in had and one.text != addition.text
        ]
    names = " and ".join("the project itself" if one.in_place else one.text for one in more)
    packages = (*decisions.packages, *(PackageAdded.of(one) for one in more))
    yield Change(
        f"{wanted} was missing: {names} was installed, too ({addition.evidence}): {{result}}",
        replace(decisions, packages=packages),
        Stage.DEPENDENCIES,
    )


def _as_imported(module: str, lines: Iterable[str]) -> str:
    """The module with what the line that failed takes from below it: packages share names like ``google``.

    >>> _as_imported("google", ["    from google.cloud.storage import Client", "No module named 'google'"])
    'google.cloud.storage'
    """
    pattern = rf"\b(?:from|import) ({re.escape(module)}(?:\.\w+){{1,2}})"
    return next((match.group(1) for line in lines if (match := re.search(pattern, line))), module)
