"""``%env(KEY)%`` in configuration files: reads of the environment, with processors."""

from __future__ import annotations

from collections.abc import Iterator

from plainfall.evidence import Evidence
from plainfall.patterns import regex
from plainfall.sources.values import FileFound, Use

__all__ = ["read_percent"]

_PERCENT = regex(r"%env\(((?:[\w.-]+:)*)([A-Za-z_]\w*)\)%")
_TYPES = {
    "int": "number",
    "float": "number",
    "bool": "boolean",
    "json": "json",
    "csv": "list",
    "url": "address",
}


def read_percent(text: str, path: str) -> FileFound:
    """What such a file reads."""
    return FileFound(tuple(_percent(text, path)))


def _percent(text: str, path: str) -> Iterator[Use]:
    for match in _PERCENT.finditer(text):
        processors = [word for word in match.group(1).split(":") if word]
        default = None
        if "default" in processors:
            place = processors.index("default")
            default = processors[place + 1] if place + 1 < len(processors) else ""
        kind = next((_TYPES[word] for word in processors if word in _TYPES), "text")
        line = text.count("\n", 0, match.start()) + 1
        shown = text.splitlines()[line - 1].strip()[:160]
        yield Use(match.group(2), Evidence(path, line, shown), default, kind, default is None)
