"""Why no set of versions satisfies all that is asked, in terms of the project's own lines."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

from resolvelib.resolvers import RequirementInformation

from plainfall.ecosystems.python.lists.pins import Target
from plainfall.ecosystems.python.lists.requirements import RequirementLine
from plainfall.ecosystems.python.resolve.finding import Finder
from plainfall.ecosystems.python.resolve.wishes import PYTHON, Candidate, Wish
from plainfall.errors import DependencyProblem

__all__ = ["conflict"]

Causes = Collection[RequirementInformation[Wish, Candidate]]


def conflict(
    causes: Causes, finder: Finder, limits: Mapping[str, Sequence[RequirementLine]], target: Target
) -> DependencyProblem:
    """The conflict in words, with the lines of the project that lead to it."""
    names = sorted({cause.requirement.name for cause in causes} - {PYTHON})
    if not names:
        return _no_python(causes, target)
    name = names[0]
    text = list(dict.fromkeys(cause.requirement.wording() for cause in causes))
    limited = [f"{line.evidence} limits it to {line.requirement}" for line in limits.get(name, ())]
    places = [cause.requirement.line.evidence for cause in causes if cause.requirement.line]
    offered = sorted(finder.versions(name), reverse=True)
    if not finder.offered(name):
        raise finder.unknown(name, places[0] if places else None, text)
    shown = ", ".join(str(version) for version in offered[:6]) or "none that fit this Python and machine"
    return DependencyProblem(
        f"no version of {name} satisfies all that is asked of it",
        place=places[0] if places else None,
        lines=(*text, *limited, f"offered: {shown}"),
        remedy="Change one of the project's own lines above, or take one version for this clone with "
        f"--instead {name}==VERSION.",
    )


def _no_python(causes: Causes, target: Target) -> DependencyProblem:
    """The conflict where packages want another Python than the one here."""
    here = target.markers["python_full_version"]
    lines = dict.fromkeys(cause.requirement.wording() for cause in causes)
    parents = [cause.parent for cause in causes if cause.parent is not None]
    names = ", ".join(sorted({f"{one.name} {one.version}" for one in parents}))
    return DependencyProblem(
        f"no version that is admitted of what is asked for runs on Python {here} ({names})",
        lines=tuple(lines),
        remedy="Use another Python (--runtime PATH), or admit other versions.",
    )
