"""A program's own installer, filled as a person would: page after page, each form with the account, and with what
was given for its fields."""

from __future__ import annotations

import http.client
import re
from collections.abc import Mapping
from typing import Any
from urllib.parse import urlsplit

from msgspec import Struct

from plainfall.patterns import regex
from plainfall.server.page import ENDS, Field, Form, Page, read_page
from plainfall.server.signing import SIGN_IN_LINK, Account, complaint_of
from plainfall.server.visitor import Answer, Visitor

__all__ = ["Installed", "fill_installer", "is_installer"]

_PLACE = regex(
    r"(?:^|[/._-])(?:web)?(?:install(?:er|ation)?|set-?up|wizard)(?:\.php)?(?:[/?._-]|$)", re.IGNORECASE
)
_TITLE = regex(r"title|site|blog|wiki_?name|project|organi[sz]ation|^name$", re.IGNORECASE)
_IDENTITY = regex(r"user|login|admin|account", re.IGNORECASE)
_MAIL = regex(r"e-?mail", re.IGNORECASE)
_STEPS = 8


class Installed(Struct, frozen=True):
    """What came of an installer: ``state`` is "done", "lacks" (fields for which nothing was given), "refused" (with
    the page's message) or "no form"; the page where it ended, how many forms were sent, the names of the fields
    that were filled, and the path where one signs in afterwards, "" if no page told."""

    state: str
    page: str = ""
    forms: int = 0
    filled: tuple[str, ...] = ()
    lacks: tuple[str, ...] = ()
    message: str = ""
    sign_in: str = ""

    def as_json(self) -> dict[str, Any]:
        """The form that ``probe --json`` shows: no values."""
        return {
            "state": self.state,
            "page": self.page,
            "forms": self.forms,
            "fields": list(self.filled),
            "lacks": list(self.lacks),
            "said": self.message,
            "sign_in": self.sign_in,
        }


def is_installer(url: str, asked: str = "/") -> bool:
    """Whether a page is one of an installer, by the path to which the server led."""
    parts = urlsplit(url)
    return parts.path.rstrip("/") != asked.rstrip("/") and _PLACE.search(parts.path) is not None


def fill_installer(
    visitor: Visitor, base: str, account: Account, title: str, given: Mapping[str, str]
) -> Installed:
    """Fills the installer to which the first page leads; ``given`` are values by the names of fields, ``title`` is
    what the site is called. Sends no form with a field that must be filled and for which nothing is known."""
    filled: dict[str, None] = {}
    sent = 0
    try:
        answer = visitor.get(base)
        page = _page(answer)
        for _ in range(2 * _STEPS):
            if not is_installer(answer.url) or page is None:
                break
            form = next((one for one in page.forms if _is_step(one)), None)
            if form is None:
                onward = next((one for one in page.links if _PLACE.search(one) and one != answer.url), "")
                if sent or not onward or ENDS.search(onward):
                    break
                answer = visitor.get(onward)
                page = _page(answer)
                continue
            rows, lacks = _rows(form, account, title, given)
            if lacks:
                return Installed("lacks", answer.url, sent, tuple(filled), lacks)
            answer = _sent(visitor, form, rows, answer.url)
            sent += 1
            filled |= dict.fromkeys(name for name, _ in rows)
            page = _page(answer)
            again = next((one for one in (page.forms if page else ()) if _is_step(one)), None)
            if answer.status >= 400 or (again and again.fields == form.fields):
                said = complaint_of(answer, page)
                return Installed("refused", answer.url, sent, tuple(filled), message=said)
        if not sent:
            return Installed("no form", answer.url)
        links = page.links if page is not None else ()
        sign_in = next((urlsplit(one).path for one in links if SIGN_IN_LINK.search(urlsplit(one).path)), "")
        after = visitor.get(base)
    except (OSError, http.client.HTTPException) as error:
        return Installed("refused", base, sent, tuple(filled), message=f"no answer: {error}")
    if is_installer(after.url):
        return Installed("refused", after.url, sent, tuple(filled), message=complaint_of(after, _page(after)))
    return Installed("done", after.url, sent, tuple(filled), sign_in=sign_in)


def _page(answer: Answer) -> Page | None:
    return read_page(answer.body, answer.url) if "html" in answer.media_type else None


def _is_step(form: Form) -> bool:
    """Whether a form is one of the installer, and no search."""
    shown = [one for one in form.fields if one.kind != "hidden"]
    return bool(shown) and not (form.method == "get" and len(shown) == 1 and shown[0].name in ("q", "s"))


def _rows(
    form: Form, account: Account, title: str, given: Mapping[str, str]
) -> tuple[list[tuple[str, str]], tuple[str, ...]]:
    """The fields as they are sent, and those that must be filled and are not known."""
    rows: list[tuple[str, str]] = []
    lacks: list[str] = []
    pressed = False
    for field in form.fields:
        if field.name in given:
            rows.append((field.name, given[field.name]))
            continue
        if field.kind == "submit":
            if not pressed:
                rows.append((field.name, field.value))
            pressed = True
            continue
        value = _value(field, account, title)
        if field.required and not value:
            lacks.append(field.name)
        rows.append((field.name, value))
    return rows, tuple(lacks)


def _value(field: Field, account: Account, title: str) -> str:
    if field.kind == "password":
        return account.password
    if field.kind in ("hidden", "checkbox", "radio", "select") or field.value:
        return field.value
    if field.kind == "email" or _MAIL.search(field.name):
        return account.email
    if _TITLE.search(field.name):
        return title
    return account.name if _IDENTITY.search(field.name) else ""


def _sent(visitor: Visitor, form: Form, rows: list[tuple[str, str]], page_url: str) -> Answer:
    return visitor.submit(form.method, form.action, rows, page_url)
