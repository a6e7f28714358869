"""Where a Python clone asks for a version: one small reader per place. Adding a place is adding a reader."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable, Iterator
from datetime import date, timedelta
from functools import cache
from pathlib import Path
from typing import Any

from plainfall.clone.walk import Tree
from plainfall.ecosystems.python.lists.toml import load_table, load_toml
from plainfall.ecosystems.python.runtime.ask_places import OTHER_READERS
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.runtimes.asks import Strength, VersionAsk

__all__ = ["READERS", "manifest", "python_asks", "python_of_time", "python_with"]

Reader = Callable[[Tree, str], Iterator[VersionAsk]]


def python_asks(tree: Tree, folder: str) -> list[VersionAsk]:
    """All asks for a part, from its folder and, where a place holds for subfolders too, from above it."""
    return [ask for reader in READERS for ask in reader(tree, folder)]


# The day of each minor release's first final version (PEP 537 and its successors).
_RELEASED = {
    "2016-12-23": "3.6",
    "2018-06-27": "3.7",
    "2019-10-14": "3.8",
    "2020-10-05": "3.9",
    "2021-10-04": "3.10",
    "2022-10-24": "3.11",
    "2023-10-02": "3.12",
    "2024-10-07": "3.13",
    "2025-10-07": "3.14",
}


def python_of_time(day: str) -> list[VersionAsk]:
    """No newer release line than the newest that had been out for half a year on that day, as a preference."""
    lines = [line for released, line in _RELEASED.items() if _half_a_year_later(released) <= day]
    line = lines[-1] if lines else next(iter(_RELEASED.values()))
    major, minor = line.split(".")
    specifier = f"<{major}.{int(minor) + 1}"
    return [
        VersionAsk(f"{line} at most", specifier, Strength.PREFERENCE, "its time", Evidence("--as-of", 0, day))
    ]


# What built-in types can do since a release line, by the words of the error of older ones ("What's New").
_BUILT_IN = {
    "'type' object is not subscriptable": ("3.9", ""),
    "unsupported operand type(s) for |": ("3.10", ""),
    "removeprefix": ("3.9", ""),
    "removesuffix": ("3.9", ""),
}


def python_with(module: str) -> list[VersionAsk]:
    """The release lines whose standard library has a module, or a name of one (``cgi.escape``).

    >>> [ask.text for ask in python_with("typing.ParamSpec")], [ask.text for ask in python_with("imp")]
    (['>=3.10'], ['<3.12'])
    """
    lines = lines_with(module)
    if lines is None:
        return []
    first, last = lines
    why = Evidence("the standard library", 0, module)
    asks = []
    if first:
        asks.append(
            VersionAsk(f">={first}", f">={first}", Strength.RANGE, "a module that older ones lack", why)
        )
    if last:
        without = f"3.{int(last.partition('.')[2]) + 1}"
        asks.append(
            VersionAsk(f"<{without}", f"<{without}", Strength.RANGE, "a module that newer ones lack", why)
        )
    return asks


def lines_with(name: str) -> tuple[str, str] | None:
    """The first and the last release line whose standard library has a module or a name of one, "" for lines
    before and after those that are known; None for what all of them have, or none. The table is made of the
    interpreters' own answers."""
    found = _BUILT_IN.get(name) or _standard_library().get(name)
    return (str(found[0]), str(found[1])) if found is not None else None


@cache
def _standard_library() -> dict[str, list[str]]:
    text = (Path(__file__).parent / "standard_library.toml").read_text("utf-8")
    return tomllib.loads(text)


def _half_a_year_later(day: str) -> str:
    return (date.fromisoformat(day) + timedelta(days=183)).isoformat()


def manifest(tree: Tree, folder: str) -> dict[str, Any]:
    """The folder's ``pyproject.toml`` as a mapping, empty if it has none. Raises BadInput with the line."""
    path = _inside(folder, "pyproject.toml")
    return load_toml(tree, path) if path in tree else {}


def _pin_file(tree: Tree, folder: str) -> Iterator[VersionAsk]:
    """``.python-version``, in the part's folder or the nearest one above; its first version counts."""
    for place in _upwards(folder):
        path = _inside(place, ".python-version")
        if path not in tree:
            continue
        for number, line in enumerate(tree.text(path).splitlines(), 1):
            text = line.partition("#")[0].strip()
            if not text:
                continue
            match = re.fullmatch(r"(?:c?python[-@]?)?(\d+(?:\.\d+){0,2}(?:(?:a|b|rc)\d+)?)(?:-dev)?", text)
            if not match:
                raise BadInput(
                    f"{text!r} is no Python version",
                    place=Evidence(path, number, text),
                    remedy="Write a version such as 3.12 or 3.12.4.",
                )
            version = match.group(1)
            specifier = f"=={version}" if version.count(".") == 2 else f"=={version}.*"
            yield VersionAsk(text, specifier, Strength.PIN, "pin file", Evidence(path, number, text))
            return
        return


def _requires_python(tree: Tree, folder: str) -> Iterator[VersionAsk]:
    """``requires-python`` of the ``[project]`` table (PEP 621)."""
    path = _inside(folder, "pyproject.toml")
    text = load_table(tree, path, "project").get("requires-python") if path in tree else None
    if text is None:
        return
    evidence = tree.line_of(path, "requires-python")
    from packaging.specifiers import InvalidSpecifier, SpecifierSet

    try:
        SpecifierSet(text)
    except (InvalidSpecifier, TypeError) as error:
        raise BadInput(
            f"requires-python is {text!r}, which is no version range",
            place=evidence,
            remedy='Write a range such as ">=3.11" or ">=3.10,<3.14".',
        ) from error
    yield VersionAsk(text, text, Strength.RANGE, "manifest", evidence)


READERS: tuple[Reader, ...] = (_pin_file, _requires_python, *OTHER_READERS)


def _inside(folder: str, name: str) -> str:
    return f"{folder}/{name}" if folder else name


def _upwards(folder: str) -> Iterator[str]:
    yield folder
    while folder:
        folder = folder.rpartition("/")[0]
        yield folder
