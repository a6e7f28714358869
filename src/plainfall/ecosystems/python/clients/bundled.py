"""The package client that an interpreter bundles as a wheel, for those who want it in an environment."""

from __future__ import annotations

import os
from pathlib import Path

from plainfall.ecosystems.python.lists.pins import Pin, Reference
from plainfall.errors import DependencyProblem
from plainfall.evidence import Evidence

__all__ = ["bundled_client", "client_pin"]

_OF_THE_SYSTEM = Path("/usr/share/python-wheels")  # where distributions keep what their interpreters bundle


def bundled_client(python: Path) -> Path | None:
    """The newest wheel of pip that the interpreter behind a program brings; None if it brings none."""
    program = Path(os.path.realpath(python))
    prefix, own = program.parent.parent, program.name  # one prefix may hold several standard libraries
    wheels = sorted(
        prefix.glob("lib/python*/ensurepip/_bundled/pip-*.whl"),
        key=lambda wheel: (wheel.parts[-4] == own, wheel.name),
    )
    if not wheels and prefix == Path("/usr"):
        wheels = sorted(_OF_THE_SYSTEM.glob("pip-*.whl"))
    return wheels[-1] if wheels else None


def client_pin(python: Path) -> Pin:
    """The interpreter's own pip as a package of an environment. Raises DependencyProblem where it bundles none."""
    wheel = bundled_client(python)
    if wheel is None:
        raise DependencyProblem(
            f"{python} bundles no pip that could be put into the environment",
            remedy="Take another interpreter with --runtime, or do without --with-pip.",
        )
    version = wheel.name.split("-")[1]
    return Pin("pip", version, Evidence(str(wheel)), reference=Reference("bundled", str(wheel)))
