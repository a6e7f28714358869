"""Foreign text as a terminal may show it: control characters and what hides or reorders text are spelled out.

Titles of pages, names of files and branches, log lines, answers of registries: any of them may hold escape
sequences that retitle the window, write the clipboard, move the cursor or hide a line. All that the program shows
passes through here, in ``cli.console``.
"""

from __future__ import annotations

import re

from plainfall.patterns import regex

__all__ = ["visible"]

# Control characters but for tab and line end; what changes the direction of text or has no width; separators of
# lines; halves of surrogate pairs, which no encoding takes.
_HIDDEN = regex(
    "[\x00-\x08\x0b-\x1f\x7f-\x9f\xad\u061c\u180e\u200b-\u200f\u2028-\u202e\u2060-\u206f\ufeff\ufff9-\ufffb"
    "\ud800-\udfff\U000e0000-\U000e007f]"
)
_COLOUR = regex(r"(\x1b\[[0-9;]*m)")
_RESET = "\x1b[0m"


def visible(text: str, *, colours: bool = False) -> str:
    """The text with such characters as escapes: ``\\x1b`` for the ASCII ones, ``\\u202e`` for others (which is
    what JSON wants, too). With ``colours`` sequences that only set a colour stay, and end with the text."""
    if not colours or "\x1b" not in text:
        return _HIDDEN.sub(_spelled, text)
    pieces = _COLOUR.split(text)
    shown = "".join(piece if _COLOUR.fullmatch(piece) else _HIDDEN.sub(_spelled, piece) for piece in pieces)
    return shown + _RESET if len(pieces) > 1 else shown


def _spelled(match: re.Match[str]) -> str:
    number = ord(match.group())
    return (
        f"\\x{number:02x}"
        if number < 0x20
        else f"\\u{number:04x}"
        if number < 0x10000
        else f"\\U{number:08x}"
    )
