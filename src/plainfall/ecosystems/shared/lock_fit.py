"""Whether a lock fits its manifest: what is said where it does not."""

from __future__ import annotations

from collections.abc import Sequence

from plainfall.errors import DependencyProblem
from plainfall.evidence import Evidence

__all__ = ["refuse_unfit_lock"]

_MOST = 6  # contradictions that are shown


def refuse_unfit_lock(contradictions: Sequence[str], path: str) -> None:
    """Raises DependencyProblem with the contradictions between a lock and its manifest, if there are any."""
    if not contradictions:
        return
    more = f" (and {len(contradictions) - _MOST} more)" if len(contradictions) > _MOST else ""
    raise DependencyProblem(
        f"the lock does not fit the manifest{more}",
        place=Evidence(path),
        lines=tuple(contradictions[:_MOST]),
        remedy="Nothing was installed. Somebody changed the manifest and did not write the lock again, or a "
        "merge took one of them: take both from the same commit, or write the lock again with its tool.",
    )
