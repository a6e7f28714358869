"""What a page's module scripts import, asked for as a browser does (the HTML standard's module scripts)."""

from __future__ import annotations

import http.client
from collections import deque
from collections.abc import Iterator, Sequence
from urllib.parse import urljoin, urlsplit

from plainfall.patterns import regex
from plainfall.server.judging import Asset
from plainfall.server.visitor import Answer, Visitor

__all__ = ["JAVASCRIPT", "imported_by"]

_MOST = 60  # modules of one page that are asked for
_LARGEST = 400_000  # bytes of a module that is read: larger ones are bundles
_IMPORTS = regex(
    r"(?:^|[\n;])[ \t]*(?:import[ \t]*(?:[\w*{}\s,$]{1,2000}?\bfrom[ \t]*)?|"
    r"export[ \t]*(?:\*[\w \t]*|\{[^}]{0,2000}\})[ \t]*from[ \t]*)([\"'])([./][^\"'\n]{0,400})\1"
)
JAVASCRIPT = regex(r"(?:java|ecma)script|application/json|wasm")


def imported_by(visitor: Visitor, scripts: Sequence[tuple[str, bytes]]) -> list[Asset]:
    """The modules of the page's own origin that these scripts (address and text) import, and those that they import
    in turn, each once. Names that are no addresses (of packages) are a bundler's business."""
    found: dict[str, Asset] = {}
    known = {address for address, _ in scripts}
    waiting = deque(one for address, body in scripts for one in _imports(address, body))
    while waiting and len(found) < _MOST:
        address = waiting.popleft()
        if address in known:
            continue
        known.add(address)
        answer = _asked(visitor, address)
        if answer is None:
            found[address] = (address, 0, "")
            continue
        media = answer.media_type
        if answer.status < 400 and not JAVASCRIPT.search(media):
            media = f"{media or 'no type'}, which is no script"
        found[address] = (address, answer.status, media)
        if answer.status < 400:
            waiting.extend(_imports(answer.url, answer.body))
    return list(found.values())


def _imports(address: str, body: bytes) -> Iterator[str]:
    if len(body) > _LARGEST:
        return
    for match in _IMPORTS.finditer(body.decode("utf-8", "replace")):
        try:
            entire = urljoin(address, match.group(2)).partition("#")[0]
            if urlsplit(entire)[:2] == urlsplit(address)[:2]:
                yield entire
        except ValueError:
            continue  # no address


def _asked(visitor: Visitor, address: str) -> Answer | None:
    try:
        return visitor.get(address, "script")
    except (OSError, http.client.HTTPException):
        return None
