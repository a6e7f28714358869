"""Values that somebody gave: on the command line, in a file, in the environment, in the team's own file."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from plainfall.clone.walk import Tree
from plainfall.errors import BadInput, UsageProblem
from plainfall.evidence import Evidence
from plainfall.foreign_patterns import matching
from plainfall.patterns import regex
from plainfall.reading import toml_table
from plainfall.settings.item import Given

__all__ = [
    "PREFIX",
    "TEAM_FILE",
    "given_values",
    "install_code",
    "parse_given",
    "set_up_values",
    "team_table",
    "are_tolerated",
]

# ``PLAINFALL_SET_NAME=value`` gives the setting NAME.
PREFIX = "PLAINFALL_SET_"
TEAM_FILE = "plainfall.toml"
_KEY = regex(r"[A-Za-z_][\w.-]*")


def parse_given(pairs: Sequence[str]) -> dict[str, str]:
    """``KEY=VALUE`` words of the command line. Raises UsageProblem."""
    given = {}
    for pair in pairs:
        key, joined, value = pair.partition("=")
        if not joined or not _KEY.fullmatch(key):
            raise UsageProblem(f"--set wants KEY=VALUE, not {pair!r}", remedy="As in: --set PORT=8000")
        given[key] = value
    return given


def given_values(
    command_line: Mapping[str, str], variables: Mapping[str, str], tree: Tree, part: str
) -> dict[str, Given]:
    """Every given value for one part, by key: the command line (with the answers file) over the environment
    over ``plainfall.toml``. Raises BadInput for that file."""
    given = _team_values(tree, part)
    for name, value in variables.items():
        key = name[len(PREFIX) :]
        if name.startswith(PREFIX) and _KEY.fullmatch(key):
            given[key] = Given(value, "given", Evidence(f"${name}"))
    for key, value in command_line.items():
        given[key] = Given(value, "given", Evidence("the command line"))
    return given


def install_code(tree: Tree) -> tuple[frozenset[str], float | None]:
    """Packages whose own code the team lets run at install, and the seconds that it may take (None: not
    said): ``allow-code`` and ``code-seconds`` under ``[install]``. Raises BadInput."""
    table = _team_file(tree).get("install", {})
    names = table.get("allow-code", []) if isinstance(table, dict) else None
    if not isinstance(names, list) or not all(isinstance(name, str) for name in names):
        raise _wrong(tree, "allow-code", 'write a list of names, as in allow-code = ["gauge-driver"]')
    seconds = table.get("code-seconds")
    if seconds is not None and (
        isinstance(seconds, bool) or not isinstance(seconds, int | float) or seconds <= 0
    ):
        raise _wrong(tree, "code-seconds", "write a number of seconds, as in code-seconds = 900")
    return frozenset(names), seconds


def are_tolerated(tree: Tree, lines: Sequence[str]) -> bool:
    """Whether the team declared each of these error lines harmless: ``lines`` under ``[tolerate]``, regular
    expressions. Raises BadInput."""
    table = _team_file(tree).get("tolerate", {})
    patterns = table.get("lines", []) if isinstance(table, dict) else None
    if not isinstance(patterns, list) or not all(isinstance(one, str) for one in patterns):
        raise _wrong(tree, "lines", "write a list of regular expressions")
    return bool(patterns) and all(matching(patterns, lines, tree.line_of(TEAM_FILE, "lines")))


def set_up_values(tree: Tree, part: str) -> dict[str, str] | None:
    """Values for the fields of the program's own installer, by name: ``[set-up]``, or ``[parts."FOLDER".set-up]``,
    of the team's file; None where it has no such table, and the installer is left to people. Raises BadInput."""
    document = _team_file(tree)
    parts = document.get("parts", {})
    own = parts.get(part or ".", {}) if isinstance(parts, dict) else {}
    table = own.get("set-up", document.get("set-up")) if isinstance(own, dict) else None
    return (
        None if table is None else {key: given.value for key, given in _table(tree, table, "set-up").items()}
    )


def team_table(tree: Tree, part: str, name: str) -> dict[str, Any]:
    """A table of the team's file, or the one of that name of a part (``[parts."FOLDER".NAME]``), which goes before
    it; empty where there is none. Raises BadInput."""
    document = _team_file(tree)
    parts = document.get("parts", {})
    own = parts.get(part or ".", {}) if isinstance(parts, dict) else {}
    table = own.get(name) if isinstance(own, dict) else None
    if table is None:
        table = document.get(name, {})
    if not isinstance(table, dict):
        raise _wrong(tree, name, f"write a table, as in [{name}]")
    return table


def _team_values(tree: Tree, part: str) -> dict[str, Given]:
    """``[settings]`` of the team's file, then ``[parts."FOLDER".settings]`` for this part."""
    document = _team_file(tree)
    given = _table(tree, document.get("settings", {}), "settings")
    parts = document.get("parts", {})
    if not isinstance(parts, dict):
        raise _wrong(tree, "parts", 'write a table for each part, as in [parts."api".settings]')
    own = parts.get(part or ".", {})
    if not isinstance(own, dict):
        raise _wrong(tree, part or ".", 'write a table, as in [parts."api".settings]')
    return {**given, **_table(tree, own.get("settings", {}), "settings")}


def _team_file(tree: Tree) -> dict[str, Any]:
    """The team's own file, empty where there is none. Raises BadInput."""
    if not (Path(tree.root) / TEAM_FILE).is_file():
        return {}
    remedy = 'Mend that line; values are written KEY = "VALUE" under [settings].'
    return toml_table(tree.text(TEAM_FILE), TEAM_FILE, remedy)


def _table(tree: Tree, table: object, name: str) -> dict[str, Given]:
    if not isinstance(table, dict):
        raise _wrong(tree, name, 'write a table, with KEY = "VALUE" below it')
    results = {}
    for key, value in table.items():
        if isinstance(value, bool):
            text = str(value).lower()
        elif isinstance(value, str | int | float):
            text = str(value)
        else:
            raise _wrong(tree, key, f"{key} takes one text, number or switch")
        results[key] = Given(text, "team", tree.line_of(TEAM_FILE, key))
    return results


def _wrong(tree: Tree, key: str, remedy: str) -> BadInput:
    return BadInput(
        f"{key!r} is not what is expected there",
        place=tree.line_of(TEAM_FILE, key),
        remedy=f"{remedy[0].upper()}{remedy[1:]}.",
    )
