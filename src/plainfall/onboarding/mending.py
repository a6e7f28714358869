"""Remedies that are safe and Plainfall's own to carry out, where the person asked for it with --mend.

Nothing of the clone's own is changed: another port, dependencies installed again, an environment made again,
migrations applied, a build run.
"""

from __future__ import annotations

from plainfall.errors import PlainfallError
from plainfall.onboarding.stages import filling_data, installing, tasks
from plainfall.onboarding.work import Work

__all__ = ["mend"]


def mend(work: Work, error: PlainfallError) -> str:
    """Carries out the remedy for a failure; returns it in words, "" if nothing can be done. Raises what the steps
    that it carries out raise."""
    if error.mend == "port":
        return _other_port(work)
    if error.mend == "dependencies":
        return _dependencies(work)
    if error.mend == "environment":
        return _environment(work)
    if error.mend == "migrations":
        return _migrations(work)
    if error.mend == "build":
        return _build(work)
    return ""


def _other_port(work: Work) -> str:
    taken = work.settled_by().ports.get(work.part.key)
    if taken is None or taken in work.avoided:
        return ""
    work.avoided.add(taken)
    return "another port is taken"


def _dependencies(work: Work) -> str:
    """Only where the list names what is missing: laying it again brings nothing else."""
    listed = work.part.dependencies
    if listed is None or listed.kind == "workspace":
        return ""
    installing.forget_installed(work)
    result = installing.dependencies(work)
    return f"dependencies were installed again: {result.title}"


def _environment(work: Work) -> str:
    standing = work.standing()
    if not standing.ours:
        return ""
    work.state.confined.remove(work.folder / standing.path)
    installing.forget_installed(work)
    made = installing.environment(work)
    if work.part.dependencies is not None:
        installing.dependencies(work)
    return f"{made.title}"


def _migrations(work: Work) -> str:
    if not work.part.candidates("migrations"):
        return ""
    work.state.forget(work.part.key, "migrations")
    return f"migrations were applied: {filling_data.migrations(work).title}"


def _build(work: Work) -> str:
    """The manifest's own build script."""
    result = next((one for one in work.part.candidates("tasks") if "build" in one.line), None)
    recognising = work.language.recognising
    if result is None and recognising is not None:
        result = recognising.build_command(work.tree, work.part.path)
    if result is None:
        return ""
    tasks.carry_out(work, "tasks", result)
    return f"{result.line} was run"
