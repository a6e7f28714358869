"""No regular expression of the program takes much longer on a long hostile line than its length explains."""

from __future__ import annotations

import ast
import importlib
import re
import time
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from typing import Any

import pytest

import plainfall
from plainfall.diagnosis import reading
from plainfall.patterns import Later

SOURCE = Path(plainfall.__file__).parent
USE = re.compile(r"\b([A-Z_][A-Z0-9_]*)\.(\w+)\(")
FUNCTIONS = {"search", "match", "fullmatch", "sub", "split", "findall", "finditer", "subn"}
# What repeats in hostile lines: each alone, then with an end that lets no pattern succeed.
PIECES = (
    "a", "A", "0", " ", "\t", "_", "-", ".", "/", "\\", '"', "'", "=", ":", "#", "<", "(", "[", "{", "@", "$", "%", ",",
    "a ", "a.", "a-", "A_", "a=", "a:", "a/", "../", "${", "\\\"", "'\\", "a,", "&&", "a b=", "key=\"", "https://", "x@",
    "--a ", "(a", "[a]", "a1", "1.", "<a ", "x|", "a\n", "\n", " \n", "=\n", "postgres://", "secret", "error ", "at ",
)  # fmt: skip
ENDS = ("", "\x00", "\n\x00")
SHORT, LONG = 1_000, 2_000  # characters
SECONDS = 0.01  # what is quicker at the greater length is quick enough


@cache
def patterns() -> dict[tuple[Any, int, str], str]:
    """Every pattern with its flags and how it is used ("search", "match" or "fullmatch"), and where it stands."""
    found: dict[tuple[Any, int, str], str] = {}
    whole = set(USE.findall("\n".join(path.read_text("utf-8") for path in SOURCE.rglob("*.py"))))
    for path in SOURCE.rglob("*.py"):
        if "standins" in path.parts or path.name == "__main__.py":
            continue
        name = path.relative_to(SOURCE).with_suffix("").as_posix().replace("/", ".").removesuffix("__init__")
        text = path.read_text("utf-8")
        for pattern, way, line in literals(text):
            found.setdefault((pattern.pattern, pattern.flags, way), f"{path.relative_to(SOURCE)}:{line}")
        for variable, value in vars(importlib.import_module(f"plainfall.{name}".rstrip("."))).items():
            where = set(USE.findall(text)) if variable.startswith("_") else whole
            for way in ways(variable, where) if variable.isupper() else ():
                for pattern in held(value, 0):
                    found.setdefault((pattern.pattern, pattern.flags, way), f"{name} {variable}")
    for rule in reading._rules():
        if "pattern" in rule:
            found.setdefault(
                (rule["pattern"], re.compile(rule["pattern"]).flags, "search"), f"rule {rule['id']}"
            )
    return found


def ways(variable: str, used: set[tuple[str, str]]) -> set[str]:
    """How a pattern is used; searching, where that does not show."""
    names = {way for name, way in used if name == variable}
    anchored = names & {"match", "fullmatch"}
    return anchored | ({"search"} if names != anchored or not names else set())


def literals(text: str) -> Iterator[tuple[re.Pattern[Any], str, int]]:
    for node in ast.walk(ast.parse(text)):
        if (
            isinstance(node, ast.Call)
            and isinstance(node.func, ast.Attribute)
            and node.func.attr in FUNCTIONS
        ):
            of_re = isinstance(node.func.value, ast.Name) and node.func.value.id == "re"
            first = node.args[0] if node.args else None
            if of_re and isinstance(first, ast.Constant) and isinstance(first.value, str | bytes):
                words = ast.unparse(node)
                flags = re.MULTILINE * ("MULTILINE" in words) | re.IGNORECASE * ("IGNORECASE" in words)
                flags |= re.DOTALL * ("DOTALL" in words) | re.VERBOSE * ("VERBOSE" in words)
                way = node.func.attr if node.func.attr in ("match", "fullmatch") else "search"
                yield re.compile(first.value, flags), way, node.lineno


def held(value: Any, depth: int) -> Iterator[re.Pattern[Any]]:
    """The patterns in a value: itself, or in its items."""
    if isinstance(value, re.Pattern):
        yield value
    elif isinstance(value, Later):
        yield value.compiled()
    elif isinstance(value, dict) and depth < 3:
        for one in value.values():
            yield from held(one, depth + 1)
    elif isinstance(value, list | tuple | set | frozenset) and depth < 3:
        for one in value:
            yield from held(one, depth + 1)


@cache
def lines(length: int) -> list[str]:
    return [(piece * length)[:length] + end for piece in PIECES for end in ENDS]


def took(pattern: re.Pattern[Any], way: str, line: str) -> float:
    text: Any = line.encode() if isinstance(pattern.pattern, bytes) else line
    begin = time.process_time()
    if way == "search":
        for _ in pattern.finditer(text):
            pass
    else:
        getattr(pattern, way)(text)
    return time.process_time() - begin


@pytest.mark.parametrize("batch", range(2))
def test_time_grows_with_the_length_and_not_with_its_square(batch: int) -> None:
    slow = []
    for (text, flags, way), place in list(patterns().items())[batch::2]:
        pattern = re.compile(text, flags)
        for short, long in zip(lines(SHORT), lines(LONG), strict=True):
            if took(pattern, way, long) > SECONDS:
                longer, shorter = (min(took(pattern, way, line) for _ in range(5)) for line in (long, short))
                if longer > SECONDS and longer > 3.3 * shorter:
                    slow.append(f"{place}: {longer:.2f} s for {long[:12]!r}... : {text!r:.160}")
                    break
    assert slow == [], "\n" + "\n".join(slow)


def test_the_patterns_are_found() -> None:
    places = list(patterns().values())
    assert len(places) > 400 and sum(place.startswith("rule ") for place in places) > 50
