"""The shape of a language: data that describes it, and three protocols for what it does.

A language is one folder of this package with a module ``language`` that holds a ``LANGUAGE``. One that is only
recognised has no environment and no installing: its settings are looked after.
"""

from __future__ import annotations

from plainfall.ecosystems.shape.data import Language, TaskList
from plainfall.ecosystems.shape.jobs import (
    CloneAccess,
    Debugging,
    DebugWish,
    EnvironmentStanding,
    Foreseen,
    HandInstall,
    Installation,
    InstallJob,
    InstallWishes,
    Progress,
)
from plainfall.ecosystems.shape.protocols import Environment, Installing, Recognising

__all__ = [
    "CloneAccess",
    "DebugWish",
    "Debugging",
    "Environment",
    "EnvironmentStanding",
    "Foreseen",
    "HandInstall",
    "InstallJob",
    "InstallWishes",
    "Installation",
    "Installing",
    "Language",
    "Progress",
    "Recognising",
    "TaskList",
]
