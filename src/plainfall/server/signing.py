"""Signing in as a person would: the form is found and filled, its hidden fields and cookies are kept, and
pages that a guest could not see are asked for again."""

from __future__ import annotations

import http.client
import re
from collections.abc import Iterable, Sequence
from typing import Any
from urllib.parse import urljoin, urlsplit

from msgspec import Struct

from plainfall.patterns import regex
from plainfall.server.page import ENDS, Form, Page, read_page
from plainfall.server.visitor import Answer, Visitor

__all__ = ["SIGN_IN_LINK", "Account", "Seen", "SignedIn", "complaint_of", "register", "sign_in"]

_SIGN_IN = (
    "/login",
    "/login/",
    "/signin",
    "/sign-in",
    "/accounts/login/",
    "/users/sign_in",
    "/auth/login",
    "/admin/login/",
    "/admin/",
    "/",
)
_REGISTER = (
    "/register",
    "/register/",
    "/signup",
    "/sign-up",
    "/accounts/signup/",
    "/accounts/register/",
    "/users/sign_up",
    "/auth/register",
)
SIGN_IN_LINK = regex(r"log-?in|sign-?in|/auth", re.IGNORECASE)
_REGISTER_LINK = regex(r"regist|sign-?up|join|create-?account", re.IGNORECASE)
_IDENTITY = regex(r"user|login|e-?mail|name|identif|account", re.IGNORECASE)
_MAIL = regex(r"e-?mail", re.IGNORECASE)
_COMPLAINT = regex(
    r"\b(?:incorrect|invalid|wrong|(?:enter|provide|give) (?:a|the) (?:correct|valid)|not correct"
    r"|(?:do|does)(?:n't| not) match|failed|forbidden|denied|required|already|unknown"
    r"|too (?:short|common|similar))\b",
    re.IGNORECASE,
)
_MOST = 10


class Account(Struct, frozen=True):
    """Whom to sign in as; ``page`` is where the account is meant for ("" for anywhere)."""

    name: str
    email: str
    password: str
    page: str = ""


class Seen(Struct, frozen=True):
    """A page as a guest and as the account saw it: statuses, and whether each was shown the page itself (and
    not a form to sign in)."""

    path: str
    guest: int
    member: int
    opened: bool


class SignedIn(Struct, frozen=True):
    """The outcome of signing in: ``state`` is "in", "refused" (with the page's message) or "no form"; the form's
    page and where it led, with its title; the pages that differ for a guest."""

    state: str
    form: str = ""
    landed: str = ""
    title: str | None = None
    message: str = ""
    seen: tuple[Seen, ...] = ()

    def as_json(self) -> dict[str, Any]:
        """The form that ``probe --json`` shows."""
        return {
            "state": self.state,
            "form": self.form,
            "landed": self.landed,
            "title": self.title,
            "said": self.message,
            "pages": [
                {"path": one.path, "guest": one.guest, "member": one.member, "opened": one.opened}
                for one in self.seen
            ],
        }


def sign_in(visitor: Visitor, base: str, account: Account, pages: Sequence[str]) -> SignedIn:
    """Signs in at the first form found: at the account's page, at links of the home page, at usual places.
    The visitor has the session afterwards. ``pages`` are paths to be compared besides those that are
    linked."""
    places = [place for place in (account.page, *_linked(base, SIGN_IN_LINK), *_SIGN_IN) if place]
    result = _form(visitor, base, places, lambda form: form.passwords == 1)
    if result is None:
        return SignedIn("no form")
    page_url, form = result
    guest = Visitor(visitor.timeout)
    try:
        answer = _send(visitor, page_url, form, account)
    except (OSError, http.client.HTTPException) as error:
        return SignedIn("refused", page_url, message=f"the form was not answered: {error}")
    page = _page(answer)
    landed = urlsplit(answer.url).path or "/"
    if answer.status >= 400 or (page is not None and any(one.passwords == 1 for one in page.forms)):
        return SignedIn("refused", page_url, landed, page.title if page else None, complaint_of(answer, page))
    linked = [urlsplit(link).path for link in (page.links if page else ()) if not ENDS.search(link)]
    paths = dict.fromkeys(path for path in (account.page, *pages, landed, *linked) if path)
    seen = tuple(_compared(guest, visitor, base, path) for path in list(paths)[:_MOST])
    return SignedIn("in", page_url, landed, page.title if page else None, "", seen)


def register(visitor: Visitor, base: str, account: Account) -> SignedIn:
    """Makes an ordinary account by the registration form, if there is one."""
    places = [*_linked(base, _REGISTER_LINK), *_REGISTER]
    result = _form(visitor, base, places, lambda form: form.passwords >= 1 and _registers(form))
    if result is None:
        return SignedIn("no form")
    page_url, form = result
    try:
        answer = _send(visitor, page_url, form, account)
    except (OSError, http.client.HTTPException) as error:
        return SignedIn("refused", page_url, message=f"the form was not answered: {error}")
    page = _page(answer)
    again = page is not None and urlsplit(answer.url).path == urlsplit(page_url).path
    if answer.status >= 400 or (again and page is not None and any(_registers(one) for one in page.forms)):
        return SignedIn("refused", page_url, message=complaint_of(answer, page))
    return SignedIn("in", page_url, urlsplit(answer.url).path or "/", page.title if page else None)


def _registers(form: Form) -> bool:
    names = " ".join(one.name for one in form.fields)
    return form.passwords >= 2 or (form.passwords == 1 and re.search(r"e-?mail", names, re.I) is not None)


def _linked(base: str, pattern: re.Pattern[str]) -> list[str]:
    try:
        answer = Visitor(5.0).get(base)
    except (OSError, http.client.HTTPException):
        return []
    page = _page(answer)
    return [
        urlsplit(link).path for link in (page.links if page else ()) if pattern.search(urlsplit(link).path)
    ]


def _form(visitor: Visitor, base: str, places: Iterable[str], fits: Any) -> tuple[str, Form] | None:
    """The first form that fits, with the address of its page."""
    for place in dict.fromkeys(places):
        try:
            answer = visitor.get(urljoin(base, place))
        except (OSError, http.client.HTTPException):
            continue  # that place does not answer; the next may
        page = _page(answer)
        form = next((one for one in (page.forms if page else ()) if one.method == "post" and fits(one)), None)
        if form is not None:
            return answer.url, form
    return None


def _page(answer: Answer) -> Page | None:
    return read_page(answer.body, answer.url) if "html" in answer.media_type else None


def _send(visitor: Visitor, page_url: str, form: Form, account: Account) -> Answer:
    return visitor.submit("post", form.action, _filled(form, account), page_url)


def _filled(form: Form, account: Account) -> list[tuple[str, str]]:
    """The fields as they are sent: hidden ones as they stand, the account's where they are asked for."""
    rows: list[tuple[str, str]] = []
    pressed = False
    typed = [one for one in form.fields if one.kind in ("text", "email")]
    named = any(_IDENTITY.search(one.name) or _MAIL.search(one.name) for one in typed)
    first = typed[0].name if typed and not named else ""  # who signs in, whatever the field is called
    for field in form.fields:
        if field.kind == "submit":
            if not pressed:
                rows.append((field.name, field.value))
            pressed = True
        elif field.kind == "password":
            rows.append((field.name, account.password))
        elif field.kind == "hidden" or field.kind in ("checkbox", "radio", "select"):
            rows.append((field.name, field.value))
        elif field.kind == "email" or _MAIL.search(field.name):
            rows.append((field.name, account.email))
        elif _IDENTITY.search(field.name) or field.name == first:
            rows.append((field.name, account.name))
        else:
            rows.append((field.name, field.value or (account.name if field.required else "")))
    return rows


def complaint_of(answer: Answer, page: Page | None) -> str:
    """What an answer says against the form that was sent, in its own words."""
    text = page.text if page is not None else answer.body[:4000].decode("utf-8", "replace")
    match = _COMPLAINT.search(text)
    source_text = _sentence_around(text, match)[-160:] if match else ""
    return (
        f"status {answer.status}: {source_text}"
        if answer.status >= 400
        else source_text or "the form was shown again"
    )


def _sentence_around(text: str, results: re.Match[str]) -> str:
    """The sentence of the text in which something was found."""
    start = max(text.rfind(mark, 0, results.start()) for mark in ".!?") + 1
    ends = [place for mark in ".!?" if (place := text.find(mark, results.end())) >= 0]
    return " ".join(text[start : min(ends) + 1 if ends else len(text)].split())


def _compared(guest: Visitor, member: Visitor, base: str, path: str) -> Seen:
    before, shown_before = _shown(guest, base, path)
    after, shown_after = _shown(member, base, path)
    return Seen(path, before, after, shown_after and not shown_before)


def _shown(visitor: Visitor, base: str, path: str) -> tuple[int, bool]:
    """The status of a page, and whether it is the page itself that is shown. One that redirects a guest
    counts with the redirect's status."""
    try:
        answer = visitor.get(urljoin(base, path))
    except (OSError, http.client.HTTPException):
        return 0, False
    page = _page(answer)
    form = page is not None and any(one.passwords for one in page.forms)
    moved = bool(answer.redirects) and urlsplit(answer.url).path.rstrip("/") != path.rstrip("/")
    return (302 if moved and form else answer.status), answer.status < 400 and not form
