"""Whether an answer is good: the status is not all, since many error pages come with status 200."""

from __future__ import annotations

import re
from collections.abc import Sequence
from urllib.parse import urlsplit

from plainfall.patterns import regex
from plainfall.server.faults import ENDLESS, MISSING_FILES, PARTLY
from plainfall.server.page import Page
from plainfall.server.visitor import Answer

__all__ = ["Asset", "fault_of", "judge", "notes_of"]

# (address, status, media type): 0 for one that did not answer
Asset = tuple[str, int, str]

# What only an error page says to its reader.
_ERROR_PAGES = (
    regex(r"^\s*(?:<\w+>\s*){0,3}(?:Uncaught )?(?:\w+\\)*\w*Exception\b"),
    regex(r"\bcould not find driver\b"),
    regex(r"Traceback \(most recent call last\)"),
    regex(r"\b(?:PHP )?(?:Fatal|Parse) error: .{0,120}? in \S+ on line \d+"),
    regex(r"\bUncaught (?:\w+\\)*\w*(?:Error|Exception)\b"),
    regex(r"\bFailed to compile\b"),
    regex(r"\bModule not found: (?:Error: )?Can't resolve\b"),
    regex(r"\b(?:Internal Server Error\b|Server Error \(500\)|Application error: a \w+-side exception\b)"),
    regex(r"\b(?:ReferenceError|TypeError|SyntaxError): .{0,100}\bat \S+ \(?\S+:\d+"),
    regex(r"\b(?:ActiveRecord|ActionView|ActionController)::\w+(?:Error|NotFound|Missing\w*)\b"),
    regex(r"^Cannot GET /"),
    regex(r"^\W{0,9}(?:FATAL|Fatal error)\b.{0,80}"),
)
# What a short page says to its reader that has nothing else to show.
_SHORT_PAGES = (
    regex(r"\b[Ee]rror establishing a database connection\b"),
    regex(
        r"\b(?:could not|cannot|can't|unable to|failed to) connect to "
        r"(?:the |a )?(?:MySQL |SQL )?(?:database|server)\b.{0,60}",
        re.IGNORECASE,
    ),
    regex(r"\b[Cc]onnection to .{0,40}\b(?:database|server) failed\b"),
)
# The titles of pages that say what their program lacks, and nothing else.
_REFUSES = regex(
    r"\s*(?:(?:failed|missing|unmet) requirements?|(?:fatal|configuration|database|connection|installation) error)"
    r"\s*(?:$|[:!|\u2013-])",
    re.IGNORECASE,
)
_SHORT = 1_500  # characters of text


_CODE = regex(r"\.(m?js|css|tsx?|jsx|vue|svelte)$")  # a page's own code, and how it looks

# The titles of pages that plain file servers make of a folder without a page.
_LISTING = regex(
    rb"<title>\s*(?:Directory listing for|Index of|listing directory|Files within) ?/", re.IGNORECASE
)


_LOGIN = regex(r"/(log-?in|sign-?in|users/sign_in)\b", re.IGNORECASE)


def judge(answer: Answer, page: Page | None, assets: Sequence[Asset]) -> str:
    """What is wrong with a page's answer, in words; empty if nothing is."""
    if answer.status in (301, 302, 303, 307, 308) and answer.redirects:
        path = " → ".join(urlsplit(url).path or "/" for url in answer.redirects[-3:])
        return f"it redirects for ever: {path} → {urlsplit(answer.location).path or answer.location}"
    if answer.status >= 400 and not _is_login(answer, page):
        return f"the page answers with status {answer.status}"
    if answer.ending == "broken":
        return f"the answer breaks off after {len(answer.body):,} bytes"
    if answer.ending == "cut" and page is not None:
        return f"the page does not end: {len(answer.body):,} bytes came within {answer.seconds:.0f} s"
    text = _error_page(page, answer)
    if text:
        return f"the page is an error page, though its status is {answer.status}: {text}"
    if page is not None and answer.status == 200 and not answer.body.strip():
        return "the page is empty"
    bad = [why for asset in assets if (why := _bad(asset))]
    return f"the page loads missing files: {', '.join(bad)}" if bad else ""


def _is_login(answer: Answer, page: Page | None) -> bool:
    """Whether a page that refuses shows where one signs in: some answer so, and not with a redirection."""
    if page is None or answer.status not in (401, 403):
        return False
    led_there = bool(answer.redirects) and _LOGIN.search(urlsplit(answer.url).path) is not None
    return led_there or any(form.passwords == 1 for form in page.forms)


def fault_of(answer: Answer, page: Page | None, assets: Sequence[Asset]) -> str:
    """What kind of fault ``judge`` has found, "" for those that nothing goes by."""
    if answer.status < 400 and answer.ending == "cut" and page is not None:
        return ENDLESS
    bad = {address for address, *_ in filter(_bad, assets)}
    if answer.status >= 400 or answer.ending == "broken" or _error_page(page, answer) or not bad:
        return ""
    code = [
        address for address, _, media in assets if _CODE.search(urlsplit(address).path) or "script" in media
    ]
    return MISSING_FILES if code and bad.issuperset(code) else PARTLY


def _error_page(page: Page | None, answer: Answer) -> str:
    text = page.text if page is not None else ""
    if page is None and answer.media_type.startswith("text/plain"):
        text = answer.body[:20_000].decode("utf-8", "replace")
    heads = " ".join((page.title or "", *page.headings)) if page is not None else ""
    if page is not None and _REFUSES.match(page.title or ""):
        return f"its title is {(page.title or '').strip()[:80]!r}"
    patterns = (*_ERROR_PAGES, *_SHORT_PAGES) if len(text) < _SHORT else _ERROR_PAGES
    for pattern in patterns:
        # In a long text these may be quoted; an error page has them in its head or is short.
        match = pattern.search(heads) or pattern.search(text[:4000])
        if match:
            return " ".join(match.group(0).split())[:120]
    return ""


def _bad(asset: Asset) -> str:
    address, status, media = asset
    path = urlsplit(address).path
    if not 0 < status < 400:
        return f"{path} → {status or 'no answer'}"
    if media.endswith("no script"):
        return f"{path} → {media} ({status}), and a browser does not run it"
    if media == "text/html" and re.search(r"\.(js|mjs|css|png|jpe?g|svg|woff2?)$", path):
        return f"{path} → a page instead ({status})"
    return ""


def notes_of(answer: Answer) -> list[str]:
    """Further remarks on an answer."""
    notes = []
    if _LISTING.search(answer.body[:2000]):
        notes.append(
            "the page is a listing of a folder's files: whoever reaches the server reads all of them"
        )
    if not answer.verified:
        notes.append("self-signed certificate, not verified: a browser will warn")
    if answer.redirects and answer.status < 300:
        paths = [urlsplit(url).path or "/" for url in (*answer.redirects, answer.url)]
        notes.append(f"redirected: {' → '.join(paths)}")
    if answer.status in (301, 302, 303, 307, 308) and not answer.redirects and answer.location:
        notes.append(f"it leads away, to {answer.location}")
    if answer.ending == "cut":
        notes.append(f"it streams without an end; {len(answer.body):,} bytes were read")
    return notes
