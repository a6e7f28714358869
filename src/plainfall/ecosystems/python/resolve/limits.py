"""Limits that the user's own configuration sets on versions, whatever a clone asks for (constraint files)."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from plainfall.ecosystems.python.clients.configuration import Source, Sources
from plainfall.ecosystems.python.lists.pins import Pin
from plainfall.ecosystems.python.lists.requirements import RequirementLine, read_requirements
from plainfall.errors import BadInput, DependencyProblem

__all__ = ["check_limits", "user_limits"]


def user_limits(sources: Sources) -> list[RequirementLine]:
    """The constraints of the user's own configuration. Raises BadInput."""
    limits: list[RequirementLine] = []
    for source in sources.constraints:
        text = _text(source)
        limits += read_requirements(source.address, lambda _, text=text: text, {}).lines  # type: ignore[misc]
    return limits


def check_limits(pins: Sequence[Pin], sources: Sources) -> None:
    """Raises DependencyProblem for a pin that they do not admit, and BadInput."""
    value = {pin.name: pin for pin in pins}
    for limit in user_limits(sources):
        pin = value.get(limit.name)
        if pin is None or limit.requirement is None or not pin.version:
            continue
        if not limit.requirement.specifier.contains(pin.version, prereleases=True):
            raise DependencyProblem(
                f"{pin.name} {pin.version} is locked, but your configuration limits it to "
                f"{limit.requirement.specifier} ({limit.evidence})",
                place=pin.evidence,
                remedy=f"Change the limit, or take the constraint out of {sources.constraints[0].evidence}.",
            )


def _text(source: Source) -> str:
    try:
        return Path(source.address).read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise BadInput(
            f"the constraint file {source.address} cannot be read: {error}", place=source.evidence
        ) from error
