"""What a clone's server sent to the mail stand-in: letters, with the links in them."""

from __future__ import annotations

import email
import email.policy
import re
from collections.abc import Sequence
from datetime import UTC, datetime
from email.message import EmailMessage
from pathlib import Path
from typing import Any

from msgspec import Struct

from plainfall.patterns import regex

__all__ = ["Letter", "letters_in"]

_LINK = regex(r"https?://[^\s<>\"'\])}]+")
_REFERENCE = regex(r"""href\s*=\s*["']?(https?://[^"'\s>]+)""", re.IGNORECASE)
_LARGEST = 30 * 1024 * 1024


class Letter(Struct, frozen=True):
    """One letter: its number, when it came, from whom, to whom, the subject, the plain text, and the links in
    it."""

    number: int
    when: datetime
    sender: str
    readers: str
    subject: str
    text: str
    links: tuple[str, ...]

    def as_json(self) -> dict[str, Any]:
        """The form that ``data --mail --json`` shows."""
        return {
            "number": self.number,
            "when": self.when.isoformat(timespec="seconds"),
            "from": self.sender,
            "to": self.readers,
            "subject": self.subject,
            "text": self.text,
            "links": list(self.links),
        }


def letters_in(folders: Sequence[Path], limit: int | None = None) -> list[Letter]:
    """The letters that are kept in the folders, the newest first, so many at the most."""
    files = [one for folder in folders if folder.is_dir() for one in folder.glob("*.eml")]
    files = [one for one in files if one.stem.isdigit() and not one.is_symlink()]
    files.sort(key=lambda one: (one.stat().st_mtime, one.stem), reverse=True)
    return [_letter(file) for file in files[:limit]]


def _letter(file: Path) -> Letter:
    with file.open("rb") as opened:
        message = email.message_from_binary_file(opened, policy=email.policy.default)
    assert isinstance(message, EmailMessage)  # what this policy makes
    plain, marked = _text(message, "plain"), _text(message, "html")
    links = [*_LINK.findall(plain), *_REFERENCE.findall(marked)]
    return Letter(
        int(file.stem),
        datetime.fromtimestamp(file.stat().st_mtime, UTC),
        _header(message, "From"),
        _header(message, "To") or _header(message, "X-Sent-To"),
        _header(message, "Subject"),
        plain or "\n".join(filter(None, map(str.strip, re.sub(r"<[^>]+>", " ", marked).splitlines()))),
        tuple(dict.fromkeys(one.rstrip(".,;:!?").replace("&amp;", "&") for one in links)),
    )


def _header(message: EmailMessage, name: str) -> str:
    try:
        return str(message.get(name, ""))[:500]
    except (ValueError, LookupError, TypeError, AttributeError, IndexError):
        return "(not to be read)"  # the standard library's parser fails on some headers that break the rules


def _text(message: EmailMessage, kind: str) -> str:
    try:
        body = message.get_body((kind,))
        return str(body.get_content()).strip() if body is not None else ""
    except (ValueError, LookupError, TypeError, AttributeError):
        return ""  # a charset that nobody knows, or no text at all
