"""Frameworks as values: what a language's module for one finds in a part."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from plainfall.clone.commands import Command
from plainfall.evidence import Evidence

__all__ = ["RANK", "Administrator", "FrameworkFound"]

# Below a README's own step and a process file's, above a guess from a file's name.
RANK = 55


@dataclass(frozen=True)
class Administrator:
    """How a first administrator account is made without a prompt: the command line, the variables that
    carry its name, address and password, what the output says if the account is there already, and the
    page where it signs in."""

    command: str
    name_variable: str
    email_variable: str
    password_variable: str
    there_already: str
    page: str
    evidence: Evidence


@dataclass(frozen=True)
class FrameworkFound:
    """A recognised framework: its name, the evidence, commands for the stages, variables that its commands
    need, pages worth probing, and how to make an administrator."""

    name: str
    evidence: Evidence
    commands: tuple[Command, ...] = ()
    variables: Mapping[str, str] = field(default_factory=dict)
    pages: tuple[str, ...] = ()
    administrator: Administrator | None = None
    serves: bool = True
