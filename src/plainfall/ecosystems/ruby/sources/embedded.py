"""Ruby embedded in configuration files (``<%= ENV["KEY"] %>``), and what such a file says of the database."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator

from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex
from plainfall.reading import yaml_value
from plainfall.sources.values import Constant, FileFound, Use

__all__ = ["read_embedded"]

_RUBY = regex(r"<%=?-?(.*?)-?%>", re.DOTALL)
_SECTION = regex(r"^([A-Za-z_]\w*):", re.MULTILINE)
_OTHERS = ("production", "test", "staging", "ci")  # modes that no developer's machine is in
_DATABASE = regex(r"(?:^|/)config/database(?:[._-](?:example|sample|dist|template))?\.ya?ml(?:\.\w{1,12})?$")
_PIECES = {"adapter": "ENGINE", "host": "HOST", "port": "PORT", "username": "USER", "password": "PASSWORD",
           "database": "NAME"}  # fmt: skip
_DEVELOPER = "developer"  # who comes in where the file names nobody
_LARGEST = 200_000  # characters


def read_embedded(text: str, path: str) -> FileFound:
    """What such a file reads, the sections of other modes aside, and the database that it names for development."""
    uses = tuple(_embedded(text, path))
    addresses = tuple(_databases(text, path)) if _DATABASE.search(path) and len(text) < _LARGEST else ()
    return FileFound(uses, addresses=addresses)


def _elsewhere(text: str) -> list[tuple[int, int]]:
    """The spans of sections for other modes, in a file that has one for development."""
    starts = [(match.start(), match.group(1)) for match in _SECTION.finditer(text)]
    if "development" not in {name for _, name in starts}:
        return []
    ends = [*(place for place, _ in starts[1:]), len(text)]
    return [(start, end) for (start, name), end in zip(starts, ends, strict=True) if name in _OTHERS]


def _embedded(text: str, path: str) -> Iterator[Use]:
    from plainfall.ecosystems.ruby.sources.reader import read_ruby

    elsewhere = _elsewhere(text)
    for match in _RUBY.finditer(text):
        if "ENV" not in match.group(1) or any(start <= match.start() < end for start, end in elsewhere):
            continue
        line = text.count("\n", 0, match.start(1)) + 1
        shown = text.splitlines()[line - 1].strip()[:160]
        for use in read_ruby(match.group(1), path).uses:
            place = Evidence(path, line + use.place.line - 1, shown)
            yield Use(use.key, place, use.default, use.type, use.needed, use.form, use.length)


def _databases(text: str, path: str) -> Iterator[Constant]:
    """The databases of development that a server holds, in pieces: each a value, or the key and default of one."""
    marks: dict[str, dict[str, str]] = {}

    def marked(match: re.Match[str]) -> str:
        name = f"ruby{len(marks)}mark"
        marks[name] = _key_of(match.group(1), path)
        return name

    try:
        document = yaml_value(_RUBY.sub(marked, text), path)
    except BadInput:
        return  # its framework says what is wrong with it
    section = document.get("development") if isinstance(document, dict) else None
    if not isinstance(section, dict):
        return
    inner = [one for one in section.values() if isinstance(one, dict) and "adapter" in one]
    for row in [section] if "adapter" in section else inner:
        if str(row["adapter"]) in marks or str(row["adapter"]).startswith("sqlite"):
            continue
        pieces = {
            name: _piece(str(row[key]), marks) for key, name in _PIECES.items() if row.get(key) is not None
        }
        if re.match(r"postg", str(row["adapter"])):
            pieces.setdefault("USER", {"value": _DEVELOPER})
        line = next((number for number, one in enumerate(text.splitlines(), 1) if "development:" in one), 1)
        if "url" not in row:
            yield Constant("", json.dumps(pieces), "database", Evidence(path, line, "development"))


def _piece(text: str, marks: dict[str, dict[str, str]]) -> dict[str, str]:
    if text in marks:
        return marks[text]
    for name, told in marks.items():
        text = text.replace(name, told.get("default", ""))
    return {"value": text}


def _key_of(expression: str, path: str) -> dict[str, str]:
    """The variable that an expression reads, and its default; an empty value for one that is something else."""
    from plainfall.ecosystems.ruby.sources.reader import read_ruby

    found = read_ruby(expression, path).uses if "ENV" in expression else ()
    if not found:
        return {"value": "", "default": ""}
    return {"key": found[0].key, "default": str(found[0].default or "")}
