"""Decisions that a team keeps with the clone: ``[decisions]`` of ``plainfall.toml``, read and written.

They say what a search would find out, so that nobody has to search. Nothing in them lets code run that would
not run anyway: consent is each person's own.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from datetime import date
from typing import Any

from msgspec import to_builtins
from msgspec.structs import replace

from plainfall.clone.commands import is_of_this_machine
from plainfall.clone.walk import Tree
from plainfall.confinement import Confined, folder_below
from plainfall.errors import BadInput, PathRefused
from plainfall.formats.values import is_secret
from plainfall.onboarding.part.decisions import Decisions, PackageAdded, StartCommand
from plainfall.settings.answers import TEAM_FILE, team_table
from plainfall.writing import digest_of

__all__ = ["as_toml", "decisions_of_team", "digest_of_team", "write_into_team_file"]

_TABLE = "decisions"
_LISTS = (
    "extras",
    "packages",
    "import-folders",
    "standard-modules",
    "held-back",
    "left-out",
    "groups",
    "own-secrets",
)
_TEXTS = ("command", "versions-of", "release")
_SWITCHES = ("secret-key", "development-mode")


def digest_of_team(tree: Tree, part: str) -> str:
    """Changes when the team's decisions for a part do; "" where it has none. Raises BadInput."""
    table = team_table(tree, part, _TABLE)
    return digest_of(sorted(table.items())) if table else ""


def decisions_of_team(tree: Tree, part: str) -> Decisions:
    """The team's decisions for a part. Raises BadInput with file and line for a key or a value that is none."""
    table = team_table(tree, part, _TABLE)
    for key, value in table.items():
        if key not in (*_LISTS, *_TEXTS, *_SWITCHES):
            raise _wrong(tree, key, f"one of {', '.join(sorted((*_LISTS, *_TEXTS, *_SWITCHES)))} is meant")
        is_list = isinstance(value, list) and all(isinstance(one, str) for one in value)
        good = is_list if key in _LISTS else isinstance(value, bool if key in _SWITCHES else str)
        if not good:
            kind = "a list of texts" if key in _LISTS else "true or false" if key in _SWITCHES else "a text"
            raise _wrong(tree, key, f"it takes {kind}")
    for folder in table.get("import-folders", ()):
        try:
            folder_below(tree.root, folder, tree.line_of(TEAM_FILE, "import-folders"))
        except PathRefused as error:
            raise BadInput(error.cause, place=error.place, remedy=error.remedy) from error
    _check_texts(tree, table)
    command = table.get("command", "")
    line = tree.line_of(TEAM_FILE, "packages").line if "packages" in table else 0
    return Decisions(
        standard_modules=tuple(table.get("standard-modules", ())),
        day=table.get("versions-of", ""),
        release=table.get("release", ""),
        packages=tuple(PackageAdded(text, TEAM_FILE, line) for text in table.get("packages", ())),
        extras=tuple(table.get("extras", ())),
        import_folders=tuple(table.get("import-folders", ())),
        secret_key=table.get("secret-key", False),
        development_mode=table.get("development-mode", False),
        held_back=tuple(table.get("held-back", ())),
        groups=tuple(table.get("groups", ())),
        left_out=tuple(table.get("left-out", ())),
        own_secrets=tuple(table.get("own-secrets", ())),
        start=StartCommand(command, f"{TEAM_FILE} says so") if command else None,
    )


def _check_texts(tree: Tree, table: Mapping[str, Any]) -> None:
    """Raises BadInput for a day that is none, a wish that is none, and a command that no document of the clone
    may give either."""
    from packaging.requirements import InvalidRequirement, Requirement

    try:
        date.fromisoformat(table.get("versions-of", "2026-01-01"))
    except ValueError:
        raise _wrong(tree, "versions-of", "it takes a day, as in 2026-03-01") from None
    for key, wishes in (
        ("release", [table.get("release") or "any"]),
        ("packages", table.get("packages", [])),
        ("held-back", table.get("held-back", [])),
    ):
        for wish in wishes:
            try:
                Requirement(wish)
            except InvalidRequirement:
                raise _wrong(tree, key, "it takes a name with versions, as in gaugekit<3") from None
    if not all(
        re.fullmatch(r"[A-Z][A-Z0-9_]*", name) and is_secret(name) for name in table.get("own-secrets", ())
    ):
        raise _wrong(tree, "own-secrets", "it takes names of variables for secrets, as in SESSION_SECRET")
    if not is_of_this_machine(table.get("command", "")):
        raise _wrong(tree, "command", "name a command that needs no other user and stays in the clone")


def as_toml(decisions: Decisions, part: str) -> str:
    """The lines for the team's file that make a search unnecessary; "" where nothing was decided that a team can
    say."""
    table = _as_table(decisions)
    if not table:
        return ""
    import tomlkit  # takes long to import, and most runs write nothing

    head = f'[parts."{part}".{_TABLE}]' if part else f"[{_TABLE}]"
    rows = [f"{key} = {tomlkit.item(value).as_string()}" for key, value in table.items()]
    return "\n".join([head, *rows, ""])


def write_into_team_file(clone: Confined, tree: Tree, rows: Sequence[tuple[str, Decisions]]) -> list[str]:
    """Adds the decisions of parts to the team's file, which is made where there is none; all else in it stays
    as it is. Returns the parts that it had decisions for already, which are left as they are. Raises BadInput,
    PathRefused, OSError."""
    text = tree.text(TEAM_FILE) if TEAM_FILE in tree else ""
    had = [part or "." for part, _ in rows if team_table(tree, part, _TABLE)]
    new = [as_toml(decisions, part) for part, decisions in rows if (part or ".") not in had]
    pieces = [text.rstrip("\n"), *(one.rstrip("\n") for one in new if one)]
    if any(new):
        clone.write(TEAM_FILE, "\n\n".join(piece for piece in pieces if piece) + "\n")
    return had


def _as_table(decisions: Decisions) -> dict[str, Any]:
    plain = to_builtins(
        replace(decisions, packages=(), start=None, ready_package=None, variables=(), services=())
    )
    table: dict[str, Any] = {}
    if decisions.start is not None:
        table["command"] = decisions.start.line
    if decisions.packages:
        table["packages"] = [one.requirement for one in decisions.packages if not one.in_place]
    names = {"day": "versions-of", "install_code": ""}
    for name, value in plain.items():
        key = names.get(name, name.replace("_", "-"))
        if value and key:
            table[key] = value
    return table


def _wrong(tree: Tree, key: str, remedy: str) -> BadInput:
    return BadInput(
        f"{key!r} under [{_TABLE}] is not what is expected there",
        place=tree.line_of(TEAM_FILE, key),
        remedy=f"{remedy[0].upper()}{remedy[1:]}.",
    )
