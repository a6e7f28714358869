"""Frameworks as values: what a language's module for one finds in a part."""

from __future__ import annotations

import re
from collections.abc import Mapping

from msgspec import Struct, field

from plainfall.clone.commands import Command
from plainfall.clone.second_processes import SecondProcess
from plainfall.clone.walk import Tree
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.failure_kinds import FailureKind

__all__ = [
    "ADMIN_ADDRESS",
    "RANK",
    "Administrator",
    "DevelopmentMode",
    "Form",
    "FrameworkFound",
    "MigratesFrom",
    "SecretForm",
    "SeededAccount",
    "Traits",
    "named_in_manifest",
]

# Below a README's own step and a process file's, above a guess from a file's name.
RANK = 55
ADMIN_ADDRESS = "admin@localhost.invalid"  # of a first administrator account


class Administrator(Struct, frozen=True):
    """How a first administrator account is made without a prompt: the command line, the variables that
    carry its name, address and password, what the output says if the account exists already, and the
    page where it signs in; ``name`` is the name to give, ``more`` are further variables that the account needs."""

    command: str
    name_variable: str
    email_variable: str
    password_variable: str
    there_already: str
    page: str
    evidence: Evidence
    name: str = "admin"
    more: Mapping[str, str] = field(default_factory=dict)


class SeededAccount(Struct, frozen=True):
    """An account that the clone's own seeds make, with the password that stands in them; ``page`` is where it
    signs in ("": where a form for it is found)."""

    name: str
    password: str
    page: str
    evidence: Evidence


class FrameworkFound(Struct, frozen=True):
    """A recognised framework: its name, the evidence, commands for the stages, variables that its commands
    need, pages worth probing, how to make an administrator, how to get its development mode, the programs that
    run beside its server, the command that lists its routes, as JSON or in Rails' table ("": there is none),
    what people should know of the part, and the account that its seeds make."""

    name: str
    evidence: Evidence
    commands: tuple[Command, ...] = ()
    variables: Mapping[str, str] = field(default_factory=dict)
    pages: tuple[str, ...] = ()
    administrator: Administrator | None = None
    serves: bool = True
    development: DevelopmentMode | None = None
    processes: tuple[SecondProcess, ...] = ()
    routes: str = ""
    notes: tuple[tuple[str, Evidence], ...] = ()
    seeded: SeededAccount | None = None


class MigratesFrom(Struct, frozen=True):
    """The files that a framework's migration command works through: ``command`` is a pattern of its words,
    ``files`` one of their paths; ``elsewhere`` a pattern of the configuration's text that puts them into another
    place, and ``configuration`` one of its name."""

    command: re.Pattern[str]
    files: re.Pattern[str]
    configuration: re.Pattern[str]
    elsewhere: re.Pattern[str]


class DevelopmentMode(Struct, frozen=True):
    """How a project whose settings are a module gets development mode without a change of its files: a module of
    ours, which takes over the project's (``module``, the name that ``variable`` overrides) and says more; ``adds``
    has the failures that call for it, and in words what the module does against each."""

    adds: Mapping[FailureKind, str]
    variable: str
    module: str
    more: str


class Form(Struct, frozen=True):
    """``encoding``: "safe" (letters, digits, - and _), "signs", "hex", "base64", "fernet" (base64 of 32
    bytes, URL-safe), "uuid" or "list" (four base64 values with commas). ``length`` counts characters, for
    "base64" and "list" bytes before the encoding. ``why`` says who demands it."""

    encoding: str = "safe"
    length: int = 64
    prefix: str = ""
    why: str = ""


class SecretForm(Struct, frozen=True):
    """The form that a framework wants a secret to have, by the names of its keys; ``by_name_alone`` tells that
    a key of that name is meant even where the framework was not recognised."""

    keys: tuple[str, ...]
    form: Form
    by_name_alone: bool = False


class Traits(Struct, frozen=True):
    """What is known of a framework whether or not a part is made with it.

    ``names`` are those by which it is shown. ``ports`` is what its server listens on by itself, by the package
    that brings it; ``port_variables`` are variables that say another. ``client_prefixes`` stand before keys that
    reach the pages of a client, ``prefixes`` before its other keys. ``secrets`` are forms of secrets, ``values``
    what keys should hold while developing. ``reads_local`` tells that it reads ``.env.local`` over ``.env``.
    ``left_behind`` are ignore patterns of what it leaves, ``uploads`` those of what people put in through its
    pages; ``configuration`` is the stem of its configuration file, in which addresses of other parts may stand.
    ``services`` are kinds of service that it always speaks to."""

    names: tuple[str, ...]
    ports: Mapping[str, int] = field(default_factory=dict)
    port_variables: tuple[str, ...] = ()
    client_prefixes: tuple[str, ...] = ()
    prefixes: tuple[str, ...] = ()
    secrets: tuple[SecretForm, ...] = ()
    values: Mapping[str, str] = field(default_factory=dict)
    reads_local: bool = False
    left_behind: tuple[str, ...] = ()
    uploads: tuple[str, ...] = ()
    configuration: str = ""
    services: tuple[str, ...] = ()


def named_in_manifest(tree: Tree, folder: str, manifest: str, package: str) -> Evidence | None:
    """The line of a manifest that names a package in quotes; None if there is none, or it is no text."""
    path = f"{folder}/{manifest}" if folder else manifest
    try:
        text = tree.text(path) if path in tree else ""
    except BadInput:
        return None  # reported by the step that installs from it
    match = re.search(rf"['\"]{re.escape(package)}['\"]", text)
    if match is None:
        return None
    line = text.count("\n", 0, match.start()) + 1
    return Evidence(path, line, text.splitlines()[line - 1].strip())
