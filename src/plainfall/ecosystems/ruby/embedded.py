"""Ruby embedded in configuration files (``<%= ENV["KEY"] %>``)."""

from __future__ import annotations

import re
from collections.abc import Iterator

from plainfall.evidence import Evidence
from plainfall.patterns import regex
from plainfall.sources.values import FileFound, Use

__all__ = ["read_embedded"]

_RUBY = regex(r"<%=?-?(.*?)-?%>", re.DOTALL)


def read_embedded(text: str, path: str) -> FileFound:
    """What such a file reads."""
    return FileFound(tuple(_embedded(text, path)))


def _embedded(text: str, path: str) -> Iterator[Use]:
    from plainfall.ecosystems.ruby.sources import read_ruby

    for match in _RUBY.finditer(text):
        if "ENV" not in match.group(1):
            continue
        line = text.count("\n", 0, match.start(1)) + 1
        shown = text.splitlines()[line - 1].strip()[:160]
        for use in read_ruby(match.group(1), path).uses:
            place = Evidence(path, line + use.place.line - 1, shown)
            yield Use(use.key, place, use.default, use.type, use.needed, use.form, use.length)
