"""The stages of a part, in working order: each is planned and carried out by the module of its name beside this
one."""

from __future__ import annotations

from enum import Enum

__all__ = ["Stage"]


class Stage(Enum):
    """The kind of a step, in working order."""

    RUNTIME = "runtime"
    ENVIRONMENT = "environment"
    DEPENDENCIES = "dependencies"
    SETTINGS = "settings"
    SERVICES = "services"
    MIGRATIONS = "migrations"
    SEEDS = "seeds"
    TASKS = "tasks"
    SERVER = "server"
    PROBE = "probe"

    @property
    def position(self) -> int:
        """Its place in the working order, from 0."""
        return list(Stage).index(self)
