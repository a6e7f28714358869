"""Reading documents that somebody else wrote: with limits, and with words for people where they are not of
their form."""

from __future__ import annotations

import json
import pickle
import re
import tomllib
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from functools import lru_cache
from pathlib import Path
from typing import Any

from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex
from plainfall.plain_files import NotPlain, plain_bytes

__all__ = [
    "clone_text",
    "foreign_json",
    "is_replaced",
    "json_object",
    "json_value",
    "of_its_form",
    "table_in",
    "toml_table",
    "without_colours",
    "yaml_node",
    "yaml_value",
]

_RESTORE = "Mend that line, or restore the file from version control."
_MOST_VALUES = 2_000_000  # values of a document; the largest locks in use have some 500,000
_MOST_YAML_VALUES = 500_000  # after its aliases are put in
_DEEPEST = 100  # levels; documents that people or their tools write have some ten
# Files that are searched for hints, and that nothing is written into: their ASCII is enough.
_SEARCHED = regex(
    r"(^|/)readme[^/]*$|(^|/)[^/]*(?<![a-z])(example|sample|template|dist|tmpl)(?![a-z])[^/]*$"
    r"|\.(py|pyw|m?js|cjs|jsx|tsx?|rb|php|md|markdown|rst|rest|adoc|asciidoc|org)$",
    re.IGNORECASE,
)
# PEP 263. Codings that are no tables of letters (escapes, punycode) are not taken from a clone.
_CODING = regex(rb"^[ \t\f]*#.*?coding[:=][ \t]*([-\w.]+)", re.MULTILINE)
_CODINGS = regex(r"(iso-?8859-?|latin-?|cp|windows-?|koi8-?)[\w-]{1,5}|gb\w{1,5}|big5|shift_jis|euc-(jp|kr)")
_TERMINAL = regex(
    r"\x1b(?:\[[0-9;?:]{0,40}[ -/]{0,4}[@-~]|\][^\x07\x1b]{0,2000}(?:\x07|\x1b\\)|[()][0-9A-Z]|[=>78])"
)
_UTF_16 = (b"\xff\xfe", b"\xfe\xff")
_SURROGATE_ESCAPE = regex(r"\\u[dD][89a-fA-F]")


def without_colours(text: str) -> str:
    """The text without what a terminal takes as commands (ECMA-48: colours, the cursor, titles)."""
    return _TERMINAL.sub("", text) if "\x1b" in text else text


def json_value(text: str, path: str, remedy: str = _RESTORE) -> Any:
    """The value of a JSON text (RFC 8259); ``path`` is its name for people. Halves of surrogate pairs, which no
    text can hold, become replacement characters. Raises BadInput with the line, also for a document that is
    too deep or has too many values."""
    _check_amount(text.count(",") + text.count("[") + text.count("{"), path)
    try:
        value = json.loads(text.removeprefix("\ufeff"))
    except json.JSONDecodeError as error:
        raise BadInput(
            f"it is not JSON: {error.msg[0].lower()}{error.msg[1:]}",
            place=Evidence(path, error.lineno),
            remedy=remedy,
        ) from error
    except RecursionError as error:
        raise _too_deep("JSON", path) from error
    except ValueError as error:  # a number of more digits than Python converts
        raise BadInput(f"it is not JSON: {error}", place=Evidence(path), remedy=remedy) from error
    _check_depth(value, "JSON", path)
    return _without_surrogates(value) if _SURROGATE_ESCAPE.search(text) else value


def foreign_json(data: bytes, path: str) -> Any:
    """``json_value`` of bytes that came over the network or out of an archive. Raises BadInput."""
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise BadInput(f"it is not UTF-8 text: {error.reason}", place=Evidence(path)) from error
    return json_value(text, path)


def json_object(text: str, path: str) -> dict[str, Any]:
    """The same where only an object will do."""
    document = json_value(text, path)
    if not isinstance(document, dict):
        raise BadInput("it must hold an object", place=Evidence(path, 1), remedy='Begin it with "{".')
    return document


def toml_table(text: str, path: str, remedy: str = _RESTORE) -> dict[str, Any]:
    """The table of a TOML 1.0 text. Raises BadInput with the line."""
    table: dict[str, Any] = pickle.loads(_toml_pickled(text, path, remedy))
    return table


@lru_cache(maxsize=4)
def _toml_pickled(text: str, path: str, remedy: str) -> bytes:
    """The table, read once for all who ask (a manifest's some five times in a run), who each get their own."""
    for number, line in enumerate(text.splitlines(), 1):
        # A key of many pieces, or brackets of many levels, cost the square of their number.
        if line.count(".") > 5_000 or line.count("[") > 20_000:
            raise BadInput(
                "it is not TOML that is read here: too many levels",
                place=Evidence(path, number),
                remedy=remedy,
            )
    try:
        table = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        match = re.search(r"line (\d+)", str(error))
        last = int(match.group(1)) if match else len(text.splitlines())
        raise BadInput(f"it is not TOML: {error}", place=Evidence(path, last), remedy=remedy) from error
    except RecursionError as error:
        raise _too_deep("TOML", path) from error
    except ValueError as error:  # a number of more digits than Python converts
        raise BadInput(f"it is not TOML: {error}", place=Evidence(path), remedy=remedy) from error
    _check_depth(table, "TOML", path)
    return pickle.dumps(table)


def yaml_value(text: str, path: str, remedy: str = _RESTORE) -> Any:
    """The value of a YAML 1.1 text of plain types. Raises BadInput with the line, also for one whose aliases
    stand for too many values."""
    import yaml

    loader = getattr(yaml, "CSafeLoader", yaml.SafeLoader)
    value = _of_yaml(lambda: yaml.load(text, Loader=loader), text, path, remedy)
    if "&" in text:
        _check_amount(_size(value, {}), path, _MOST_YAML_VALUES)
    return value


def yaml_node(text: str, path: str, *, typed: bool = True) -> Any:
    """The same as nodes that know their places (PyYAML's), None for an empty text. Raises BadInput."""
    import yaml

    loader = yaml.SafeLoader if typed else getattr(yaml, "CBaseLoader", yaml.BaseLoader)

    node = _of_yaml(lambda: yaml.compose(text, Loader=loader), text, path, _RESTORE)
    if "&" in text:
        _check_amount(_size(node, {}), path, _MOST_YAML_VALUES)
    return node


def table_in(document: Mapping[str, Any], keys: Sequence[str], text: str, path: str) -> dict[str, Any]:
    """The table below these keys of a document, empty where it is missing. Raises BadInput with the line where
    another type is at that place, or above it."""
    result: Any = document
    for count, key in enumerate(keys, 1):
        result = result.get(key, {})
        if not isinstance(result, dict):
            pattern = re.compile(rf"(^|[\s\[.{{,\"'])({re.escape(key)})[\"']?\s*[\]=:.]")
            lines = enumerate(text.splitlines(), 1)
            line = next(((number, row) for number, row in lines if pattern.search(row)), (0, ""))
            raise BadInput(
                f"{'.'.join(keys[:count])} must be a table, and is {_kind_of(result)}",
                place=Evidence(path, line[0], line[1].strip()),
                remedy=_RESTORE,
            )
    return dict(result)


def _kind_of(value: object) -> str:
    kinds = {list: "a list", str: "a text", bool: "a truth", int: "a number", float: "a number"}
    return kinds.get(type(value), "nothing" if value is None else f"a {type(value).__name__}")


@contextmanager
def of_its_form(path: str, kind: str) -> Iterator[None]:
    """Turns what a reader stumbles over in a document of another shape into BadInput: a key that is missing, a
    list where a table should be, a text where a number should be."""
    try:
        yield
    except (KeyError, TypeError, AttributeError, ValueError, IndexError, RecursionError) as error:
        what = (
            f"{error} is lacking" if isinstance(error, KeyError) else str(error)[:200] or type(error).__name__
        )
        raise BadInput(
            f"it is not of the form that a {kind} has: {what}", place=Evidence(path), remedy=_RESTORE
        ) from error


def clone_text(root: Path, path: str, largest: int) -> str:
    """The text of a file of the clone (UTF-8, byte-order mark taken off). Sources, prose and templates may be of
    another coding: that of their coding line (PEP 263), else what is not UTF-8 becomes replacement characters
    (``is_replaced`` tells). Raises BadInput if it does not exist, leads out of the clone, is no plain file or no
    text, or has more than ``largest`` bytes."""
    file = root / path
    try:
        data = plain_bytes(file, largest=largest, inside=root)
    except FileNotFoundError as error:
        raise BadInput("it does not exist", place=Evidence(path)) from error
    except NotPlain as error:
        raise BadInput(str(error.strerror), place=Evidence(path)) from error
    except (OSError, ValueError) as error:
        reason = getattr(error, "strerror", None) or error
        raise BadInput(f"it cannot be read: {reason}", place=Evidence(path)) from error
    if _SEARCHED.search(path) and (data[:2] in _UTF_16 or b"\0" not in data):
        return _searched(data)
    try:
        text = data.decode("utf-16" if data[:2] in _UTF_16 else "utf-8-sig")
    except UnicodeDecodeError as error:
        line = data[: error.start].count(b"\n") + 1
        raise BadInput(
            f"it is not text: byte {data[error.start] if error.start < len(data) else 0:#04x} is not UTF-8",
            place=Evidence(path, line),
            remedy="Save it as UTF-8 text, or restore it from version control.",
        ) from error
    if "\0" in text:
        line = text[: text.index("\0")].count("\n") + 1
        raise BadInput(
            "it is not text: it holds a NUL byte",
            place=Evidence(path, line),
            remedy="Save it as UTF-8 text, or restore it from version control.",
        )
    return text


def is_replaced(text: str) -> bool:
    """Whether a text was read with replacement characters, for it is of another coding."""
    return "\ufffd" in text


def _searched(data: bytes) -> str:
    if data[:2] in _UTF_16:
        return data.decode("utf-16", "replace")
    stated = _CODING.search(b"\n".join(data.split(b"\n", 2)[:2]))
    name = stated.group(1).decode("ascii", "replace").lower() if stated else ""
    if _CODINGS.fullmatch(name):
        try:
            return data.decode(name, "replace")
        except LookupError:
            return data.decode("latin-1")
    return data.decode("utf-8-sig", "replace")


def _of_yaml(read: Callable[[], Any], text: str, path: str, remedy: str) -> Any:
    import yaml

    _check_yaml_depth(text, path)
    try:
        return read()
    except (yaml.YAMLError, RecursionError, ValueError, OverflowError) as error:
        mark = getattr(error, "problem_mark", None) or getattr(error, "context_mark", None)
        problem = getattr(error, "problem", None) or getattr(error, "context", None)
        if problem is None:
            problem = "too deep" if isinstance(error, RecursionError) else str(error)[:200] or "broken"
        place = Evidence(path, mark.line + 1 if mark else 0)
        raise BadInput(f"it is not YAML: {problem}", place=place, remedy=remedy) from error


def _check_yaml_depth(text: str, path: str) -> None:
    """Raises BadInput for nesting that the parser, which is written in C, would take until its stack ends."""
    depth = 0
    for match in re.finditer(r"[\[{]|[\]}]|^ {2000}|(?:^|\n) *(?:[-?] ){100}", text):
        piece = match.group()
        depth = depth + 1 if piece in "[{" else max(0, depth - 1) if piece in "]}" else _DEEPEST + 1
        if depth > _DEEPEST:
            place = Evidence(path, text.count("\n", 0, match.start()) + 1)
            raise BadInput("it is not YAML that is read here: too deep", place=place, remedy=_RESTORE)


def _size(value: Any, known: dict[int, int]) -> int:
    """The number of values with every alias expanded."""
    inner = getattr(value, "value", None) if hasattr(value, "start_mark") else value
    if not isinstance(inner, dict | list | tuple):
        return 1
    if id(value) in known:
        return known[id(value)]
    known[id(value)] = _MOST_YAML_VALUES + 1  # an alias within what it stands for has no end
    items = [*inner.keys(), *inner.values()] if isinstance(inner, dict) else inner
    known[id(value)] = 1 + sum(_size(item, known) for item in items)
    return known[id(value)]


def _check_amount(count: int, path: str, most: int = _MOST_VALUES) -> None:
    if count > most:
        raise BadInput(
            f"it holds more than {most:,} values, which is more than is read",
            place=Evidence(path),
            remedy="If it is meant to be that large, leave it out; otherwise restore it from version control.",
        )


def _check_depth(value: Any, kind: str, path: str) -> None:
    level = [value]
    for _ in range(_DEEPEST):
        level = [
            inner
            for one in level
            if isinstance(one, dict | list)
            for inner in (one.values() if isinstance(one, dict) else one)
            if isinstance(inner, dict | list)
        ]
        if not level:
            return
    raise _too_deep(kind, path)


def _too_deep(kind: str, path: str) -> BadInput:
    return BadInput(f"it is not {kind} that is read here: too deep", place=Evidence(path), remedy=_RESTORE)


def _without_surrogates(value: Any) -> Any:
    if isinstance(value, str):
        return value.encode("utf-16", "surrogatepass").decode("utf-16", "replace")
    if isinstance(value, dict):
        return {_without_surrogates(key): _without_surrogates(inner) for key, inner in value.items()}
    return [_without_surrogates(inner) for inner in value] if isinstance(value, list) else value
