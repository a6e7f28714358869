"""Secret values covered in what a project's commands print."""

from __future__ import annotations

import re
from collections.abc import Mapping
from functools import lru_cache

from plainfall.formats.values import is_secret
from plainfall.patterns import regex

__all__ = ["masked"]

_SHORTEST = 6  # characters; shorter values stand in ordinary words
_FRAME = regex(r"-----(BEGIN|END) [A-Z0-9 ]+-----")  # around a key in PEM (RFC 7468); no secret


def masked(text: str, settings: Mapping[str, str]) -> str:
    """The text with every secret value of the settings covered: a value of several lines line by line, since
    output is read by lines and may have them indented or escaped."""
    secrets = _secrets(tuple(settings.items()))
    return secrets.sub("••••••", text) if secrets else text


@lru_cache(maxsize=32)
def _secrets(settings: tuple[tuple[str, str], ...]) -> re.Pattern[str] | None:
    pieces = {
        piece
        for key, value in settings
        if is_secret(key, value)
        for piece in (value, *(line.strip() for line in re.split(r"\r?\n|\\n", value)))
        if len(piece) >= _SHORTEST and not _FRAME.fullmatch(piece)
    }
    return re.compile("|".join(map(re.escape, sorted(pieces, key=len, reverse=True)))) if pieces else None
