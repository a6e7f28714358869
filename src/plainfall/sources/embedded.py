"""Reads of the environment inside configuration files: ``%env(KEY)%`` and embedded Ruby."""

from __future__ import annotations

import re
from collections.abc import Iterator

from plainfall.evidence import Evidence
from plainfall.sources.found import FileFound, Use

__all__ = ["read_embedded"]

_PERCENT = re.compile(r"%env\(((?:[\w.-]+:)*)([A-Za-z_]\w*)\)%")
_RUBY = re.compile(r"<%=?-?(.*?)-?%>", re.DOTALL)
_TYPES = {
    "int": "number",
    "float": "number",
    "bool": "boolean",
    "json": "json",
    "csv": "list",
    "url": "address",
}


def read_embedded(text: str, path: str) -> FileFound:
    """What such a file reads."""
    return FileFound((*_percent(text, path), *_ruby(text, path)))


def _percent(text: str, path: str) -> Iterator[Use]:
    for found in _PERCENT.finditer(text):
        processors = [word for word in found.group(1).split(":") if word]
        default = None
        if "default" in processors:
            place = processors.index("default")
            default = processors[place + 1] if place + 1 < len(processors) else ""
        kind = next((_TYPES[word] for word in processors if word in _TYPES), "text")
        line = text.count("\n", 0, found.start()) + 1
        shown = text.splitlines()[line - 1].strip()[:160]
        yield Use(found.group(2), Evidence(path, line, shown), default, kind, default is None)


def _ruby(text: str, path: str) -> Iterator[Use]:
    from plainfall.sources.ruby import read_ruby

    for found in _RUBY.finditer(text):
        if "ENV" not in found.group(1):
            continue
        line = text.count("\n", 0, found.start(1)) + 1
        shown = text.splitlines()[line - 1].strip()[:160]
        for use in read_ruby(found.group(1), path).uses:
            place = Evidence(path, line + use.place.line - 1, shown)
            yield Use(use.key, place, use.default, use.type, use.needed, use.form, use.length)
