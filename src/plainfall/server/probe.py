"""Asking a server for a page and all that it loads, and judging the answer."""

from __future__ import annotations

import http.client
import time
from collections.abc import Iterator, Sequence
from typing import Any

from msgspec import Struct

from plainfall.server.faults import NO_ANSWER
from plainfall.server.judging import Asset, fault_of, judge, notes_of
from plainfall.server.page import Page, read_page
from plainfall.server.visitor import Answer, Visitor

__all__ = ["Probe", "probe_page"]

_MOST_ASSETS = 1_000
_SECONDS_FOR_ASSETS = 30.0


class Probe(Struct, frozen=True):
    """What a page answered: its address in the end, status, title and headings, seconds to the first byte and
    in all, size in bytes, the assets (address, status, media type; status 0 for no answer). ``problem`` says
    why it is not good, empty if it is, ``fault`` what kind of fault that is; ``notes`` what else is to be
    known; ``links`` are addresses of its own origin."""

    url: str
    status: int
    title: str | None
    first_byte: float
    size: int
    media_type: str
    assets: tuple[Asset, ...]
    problem: str = ""
    headings: tuple[str, ...] = ()
    seconds: float = 0.0
    notes: tuple[str, ...] = ()
    text: str = ""
    links: tuple[str, ...] = ()
    fault: str = ""

    def as_json(self) -> dict[str, Any]:
        """The form that ``--json`` documents show."""
        return {
            "url": self.url,
            "status": self.status,
            "title": self.title,
            "headings": list(self.headings),
            "first_byte_seconds": round(self.first_byte, 4),
            "seconds": round(self.seconds, 4),
            "bytes": self.size,
            "media_type": self.media_type,
            "assets": [
                {"url": url, "status": status, "media_type": media} for url, status, media in self.assets
            ],
            "notes": list(self.notes),
            "problem": self.problem,
        }


def probe_page(
    url: str,
    timeout: float = 10.0,
    *,
    visitor: Visitor | None = None,
    status: int | None = None,
    words: str | None = None,
) -> Probe:
    """Asks for a page and for everything of its own origin that it loads; ``status`` and ``words`` are what
    is expected of it (then that status is right, whichever it is). Never raises for what the server does: a
    page that does not answer has status 0 and says why."""
    visitor = visitor or Visitor(timeout)
    try:
        answer = visitor.get(url)
    except (OSError, http.client.HTTPException) as error:
        return Probe(url, 0, None, 0.0, 0, "", (), f"no answer: {_words(error)}", fault=NO_ANSWER)
    page = read_page(answer.body, answer.url) if "html" in answer.media_type else None
    assets = _assets(visitor, page, answer.url) if page else ()
    problem = _unexpected(answer, page, status, words) or (
        "" if status is not None and status >= 300 else judge(answer, page, assets)
    )
    return Probe(
        answer.url,
        answer.status,
        page.title if page else None,
        answer.first_byte,
        len(answer.body),
        answer.media_type,
        assets,
        problem,
        page.headings if page else (),
        answer.seconds,
        (*notes_of(answer), *_unseen(page, assets)),
        page.text if page else answer.body[:100_000].decode("utf-8", "replace"),
        page.links if page else (),
        fault_of(answer, page, assets) if problem else "",
    )


def _words(error: Exception) -> str:
    if isinstance(error, http.client.RemoteDisconnected):
        return "it hung up without a word"
    if isinstance(error, http.client.BadStatusLine):
        return "what it says is no HTTP"
    return str(error) or type(error).__name__


def _unexpected(answer: Answer, page: Page | None, status: int | None, words: str | None) -> str:
    if status is not None and answer.status != status:
        return f"status {status} was expected, and it answers with {answer.status}"
    if words is not None:
        text = page.text if page is not None else answer.body.decode("utf-8", "replace")
        seen = " ".join((page.title or "", text)) if page is not None else text
        if words not in seen and words not in answer.body.decode("utf-8", "replace"):
            return f"{words!r} was expected on the page and is missing"
    return ""


def _unseen(page: Page | None, assets: Sequence[Asset]) -> Iterator[str]:
    """That not all was asked for, where it was not."""
    asked = {address for address, _, _ in assets}
    left = sum(address not in asked for address in page.assets) if page else 0
    if page and left:
        yield f"of {len(page.assets):,} things that the page loads {left:,} were not asked for"


def _assets(visitor: Visitor, page: Page, url: str) -> tuple[Asset, ...]:
    """What the page loads, and what its module scripts import: as many as a page of a hundred megabytes has, and
    for as long as a person would wait."""
    results: list[Asset] = []
    deadline = time.monotonic() + _SECONDS_FOR_ASSETS
    scripts = [(url, text.encode()) for text in page.inline_modules]
    for address in page.assets[:_MOST_ASSETS]:
        if time.monotonic() > deadline:
            break
        try:
            answer = visitor.get(address, page.wanted.get(address, "empty"))
        except (OSError, http.client.HTTPException):
            results.append((address, 0, ""))
            continue
        results.append((address, answer.status, answer.media_type))
        if address in page.modules and answer.status < 400:
            scripts.append((answer.url, answer.body))
    if scripts:
        from plainfall.server.modules import imported_by

        seen = {address for address, _, _ in results}
        results += [one for one in imported_by(visitor, scripts) if one[0] not in seen]
    return tuple(results)
