"""A page in a browser of this machine: what its scripts do, which a probe cannot see."""

from __future__ import annotations

import os
import shutil
import tempfile
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from typing import Any
from urllib.parse import urlsplit

from msgspec import Struct, field

from plainfall.errors import BadInput, ServerFailed
from plainfall.server.devtools import Talk, driven

__all__ = [
    "BrowserLook",
    "FailedRequest",
    "browser_here",
    "browser_profile",
    "browser_words",
    "look_in_browser",
]

_NAMES = (
    "chromium",
    "chromium-browser",
    "google-chrome",
    "google-chrome-stable",
    "chrome",
    "microsoft-edge",
    "brave-browser",
)
_LONGEST = 15.0  # for a page to come to rest
_REST = 0.6  # seconds without a request under way: what dev servers compile is asked for in waves
_SILENCE = 4.0  # with requests under way of which nothing is heard
_LONGEST_PATH = 50  # bytes of the folder: the browser adds names of its own
_MOST = 40  # errors, and failed requests, that are kept
# What dev servers put over a page whose modules they could not make, and what it says.
_OVERLAY = """(() => {
  const over = document.querySelector('vite-error-overlay');
  if (over) return (over.shadowRoot || over).textContent.trim().slice(0, 2000);
  const frame = document.querySelector('#webpack-dev-server-client-overlay, #rspack-dev-server-client-overlay');
  if (frame) { try { return frame.contentDocument.body.innerText.slice(0, 2000) } catch { return 'an error' } }
  return '';
})()"""
_BLANK = """(() => !document.body || (!document.body.innerText.trim() &&
  !document.querySelector('img, svg, canvas, video, iframe, object, input, button')))()"""


class FailedRequest(Struct, frozen=True):
    """A request of the page that failed: its address, status (0 for no answer), what it was for, and why."""

    url: str
    status: int
    kind: str
    why: str


class BrowserLook(Struct, frozen=True):
    """A page in a browser: which browser, the title in the end, seconds until it came to rest, how many requests it
    made, what its console and its scripts reported as errors, requests that failed, the text that a dev server has
    put over it (an error), and whether nothing is to be seen. ``problem`` says why it is not good, empty if it
    is."""

    browser: str
    title: str
    seconds: float
    requests: int
    errors: tuple[str, ...]
    failed: tuple[FailedRequest, ...]
    overlay: str
    blank: bool
    problem: str

    def as_json(self) -> dict[str, Any]:
        """The form that ``--json`` documents show."""
        return {
            "browser": self.browser,
            "title": self.title,
            "seconds": round(self.seconds, 3),
            "requests": self.requests,
            "errors": list(self.errors),
            "failed": [
                {"url": one.url, "status": one.status, "for": one.kind, "why": one.why} for one in self.failed
            ],
            "overlay": self.overlay,
            "blank": self.blank,
            "problem": self.problem,
        }


def browser_here(path: str) -> str | None:
    """The first of Chromium's usual names on a search path, None if there is none."""
    return next((result for name in _NAMES if (result := shutil.which(name, path=path))), None)


def browser_words(browser: str, profile: str) -> list[str]:
    """A command line for the browser without a window, with a profile of its own."""
    words = [
        browser,
        "--headless",
        "--disable-gpu",
        "--hide-scrollbars",
        "--ignore-certificate-errors",
        "--no-first-run",
        "--disable-background-networking",
        "--disable-component-update",
        f"--user-data-dir={profile}",
    ]
    # The browser's own fence does not work for root; what is shown is this machine's own server.
    return [*words, "--no-sandbox"] if os.getuid() == 0 else words


@contextmanager
def browser_profile(variables: Mapping[str, str]) -> Iterator[tuple[str, dict[str, str]]]:
    """A new folder for a browser's profile, which goes with the block, and the browser's variables. Where the
    folder for temporary files has a long path, it is the system's: the path of a socket has 107 bytes at most."""
    usual = tempfile.gettempdir()
    place = usual if len(os.fsencode(usual)) <= _LONGEST_PATH else "/tmp"
    with tempfile.TemporaryDirectory(
        prefix="plainfall-browser-", dir=place, ignore_cleanup_errors=True
    ) as folder:
        yield folder, {**variables, "TMPDIR": folder}


def look_in_browser(browser: str, url: str, variables: Mapping[str, str]) -> BrowserLook:
    """Opens a page and waits until it comes to rest, 15 s at most. ``variables`` are the browser's. Raises
    ServerFailed if the browser cannot be driven."""
    try:
        with (
            browser_profile(variables) as (profile, own),
            driven(browser_words(browser, profile), profile, own) as talk,
        ):
            return _Looking(talk, url).look()
    except (OSError, EOFError, ValueError, KeyError, BadInput) as error:
        raise ServerFailed(
            f"{browser} could not be driven: {str(error) or type(error).__name__}",
            remedy="Name another one with --browser PROGRAM, or none: --browser none.",
        ) from error


class _Looking(Struct):
    """One look at a page."""

    talk: Talk
    url: str
    requests: dict[str, tuple[str, str]] = field(default_factory=dict)  # address and what for, by id
    under_way: set[str] = field(default_factory=set)
    errors: dict[str, None] = field(default_factory=dict)
    failed: dict[str, FailedRequest] = field(default_factory=dict)
    thrown: str = ""
    loaded: bool = False

    def look(self) -> BrowserLook:
        browser = str(self.talk.ask("Browser.getVersion").get("product", "")).replace("/", " ")
        target = self.talk.ask("Target.createTarget", url="about:blank")["targetId"]
        session = self.talk.ask("Target.attachToTarget", targetId=target, flatten=True)["sessionId"]
        for domain in ("Page", "Network", "Runtime", "Log"):
            self.talk.ask(f"{domain}.enable", session)
        asked = time.monotonic()
        refused = str(self.talk.ask("Page.navigate", session, url=self.url).get("errorText", ""))
        quiet = heard = time.monotonic()
        while time.monotonic() - asked < _LONGEST:
            for event in self.talk.events(0.1):
                self._take(str(event.get("method")), event.get("params") or {})
                heard = time.monotonic()
            # A request that waits for news (it stays open) is no reason to wait for it.
            if not self.loaded or (self.under_way and time.monotonic() - heard < _SILENCE):
                quiet = time.monotonic()
            elif time.monotonic() - quiet > _REST:
                break
        at_rest = time.monotonic() < asked + _LONGEST
        seconds = (quiet if at_rest else time.monotonic()) - asked
        title = str(self._value(session, "document.title"))[:200]
        overlay = str(self._value(session, _OVERLAY))
        blank = bool(self._value(session, _BLANK))
        return BrowserLook(
            browser,
            title,
            seconds,
            len(self.requests),
            tuple(self.errors)[:_MOST],
            tuple(self.failed.values())[:_MOST],
            overlay,
            blank,
            refused or self._problem(overlay, blank),
        )

    def _value(self, session: str, expression: str) -> Any:
        try:
            result = self.talk.ask(
                "Runtime.evaluate", session, 3.0, expression=expression, returnByValue=True
            )
        except ValueError:
            return ""  # a page whose script never ends
        return (result.get("result") or {}).get("value", "")

    def _problem(self, overlay: str, blank: bool) -> str:
        if overlay:
            return f"its dev server shows an error over it: {overlay.splitlines()[0][:200]}"
        # What a script of another host would have brought is missing where that host is not reached from here.
        lacks = any(one.kind == "Script" and not _is_own(one.url, self.url) for one in self.failed.values())
        if self.thrown and not lacks:
            return f"a script of the page failed: {self.thrown}"
        for one in self.failed.values():
            if _is_own(one.url, self.url) and (one.kind in _NEEDED or one.status == 0 or one.status >= 500):
                return f"a request of the page failed: {one.url} ({one.status or one.why})"
        return "nothing is to be seen on it" if blank and not lacks else ""

    def _take(self, method: str, what: dict[str, Any]) -> None:
        match method:
            case "Page.loadEventFired":
                self.loaded = True
            case "Network.requestWillBeSent":
                self._sent(what)
            case "Network.responseReceived":
                response = what.get("response") or {}
                if int(response.get("status", 0)) >= 400:
                    self._fail(what, int(response["status"]), str(response.get("statusText", "")))
            case "Network.loadingFinished":
                self.under_way.discard(str(what.get("requestId")))
            case "Network.loadingFailed":
                self.under_way.discard(str(what.get("requestId")))
                if not what.get("canceled") and str(what.get("requestId")) in self.requests:
                    self._fail(what, 0, str(what.get("errorText", "")).removeprefix("net::"))
            case "Runtime.exceptionThrown":
                details = what.get("exceptionDetails") or {}
                said = str((details.get("exception") or {}).get("description") or details.get("text", ""))
                place = f"{details.get('url', '')}:{int(details.get('lineNumber', 0)) + 1}"
                text = f"{said.splitlines()[0] if said else 'an error'} ({_short(place, self.url)})"
                self.thrown = self.thrown or text[:400]
                self.errors[text[:1000]] = None
            case "Runtime.consoleAPICalled" if what.get("type") in ("error", "assert"):
                values = [one.get("value", one.get("description", "")) for one in what.get("args") or ()]
                self.errors[" ".join(str(one) for one in values)[:1000]] = None
            case "Log.entryAdded":
                entry = what.get("entry") or {}
                if entry.get("level") == "error" and entry.get("source") != "network":
                    self.errors[str(entry.get("text", ""))[:1000]] = None

    def _sent(self, what: dict[str, Any]) -> None:
        number, request = str(what.get("requestId")), what.get("request") or {}
        kind, url = str(what.get("type", "")), str(request.get("url", ""))
        if not url.startswith(("http:", "https:")) or urlsplit(url).path == "/favicon.ico":
            return
        self.requests[number] = (url, kind)
        if kind not in ("EventSource", "WebSocket", "Ping"):
            self.under_way.add(number)

    def _fail(self, what: dict[str, Any], status: int, why: str) -> None:
        url, kind = self.requests.get(str(what.get("requestId")), ("", ""))
        if url and url not in self.failed:
            self.failed[url] = FailedRequest(url, status, kind, why)


_NEEDED = ("Document", "Script", "Stylesheet")


def _is_own(url: str, page: str) -> bool:
    """Whether an address is this machine's: the page's own server, or another part's."""
    host = urlsplit(url).hostname or ""
    return host == (urlsplit(page).hostname or "") or host in ("localhost", "127.0.0.1", "::1")


def _short(place: str, page: str) -> str:
    return place.removeprefix(f"{urlsplit(page).scheme}://{urlsplit(page).netloc}")
