"""INI configuration files, as Python's and PHP's readers agree on them."""

from __future__ import annotations

import re
from collections.abc import Iterator

from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.formats.entries import Entry, comment_above
from plainfall.patterns import regex

__all__ = ["ini_entries"]

_SECTION = regex(r"^\s*\[([^\]]+)\]\s*(?:[;#].*)?$")
_PAIR = regex(r"^([A-Za-z_][\w.\[\]-]*)(\s*[=:]\s*)(.*)$")


def ini_entries(text: str, path: str) -> Iterator[Entry]:
    """Every assignment, its section before it. Raises BadInput for a line that is none."""
    lines = text.splitlines()
    section, position, continued = "", 0, False
    for number, raw in enumerate(text.splitlines(keepends=True), 1):
        line = raw.rstrip("\r\n")
        result, pair = _SECTION.match(line), _PAIR.match(line)
        if result:
            section, continued = f"{result.group(1).strip()}.", False
        elif pair:
            written = pair.group(3)
            bare = re.split(r"(?<=\s)[;#]", written, maxsplit=1)[0].rstrip()
            value = bare[1:-1] if len(bare) > 1 and bare[0] == bare[-1] and bare[0] in "\"'" else bare
            start = position + pair.start(3) + (1 if value != bare else 0)
            yield Entry(
                section + pair.group(1),
                value,
                number,
                comment_above(lines, number),
                start,
                start + len(value),
            )
            continued = True
        elif (
            line.strip()
            and not line.lstrip().startswith(("#", ";"))
            and not (continued and line[:1].isspace())
        ):
            raise BadInput(
                f"{line.strip()[:60]!r} is neither a section nor an assignment",
                place=Evidence(path, number),
                remedy="Write [SECTION] or KEY = VALUE on each line.",
            )
        position += len(raw)
