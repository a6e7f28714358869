"""A registration that is confirmed by a link that came by mail, as its reader would confirm it."""

from __future__ import annotations

import http.client
import re
from collections.abc import Sequence
from urllib.parse import urlsplit

from plainfall.patterns import regex
from plainfall.server.page import read_page
from plainfall.server.visitor import Answer, Visitor

__all__ = ["confirm", "confirming_link"]

_CONFIRMS = regex(r"confirm|verif|activat|validat|token|magic|complete", re.IGNORECASE)
_NOT = regex(r"unsubscribe|reset|delete|remove|cancel|report", re.IGNORECASE)


def confirming_link(base: str, links: Sequence[str]) -> str:
    """The link of a letter that confirms, with the server's own address in the place of whatever host the letter
    names (a site's name in production, most often); "" where none does."""
    for link in sorted(links, key=lambda one: _CONFIRMS.search(one) is None):
        parts = urlsplit(link)
        rest = parts.path + (f"?{parts.query}" if parts.query else "")
        if rest.strip("/") and not _NOT.search(rest):
            return f"{base.rstrip('/')}/{rest.lstrip('/')}"  # two slashes would name another host
    return ""


def confirm(visitor: Visitor, url: str) -> tuple[int, str]:
    """Opens the link; where its page only asks to press a button, that is pressed. Returns the last answer's status
    (0 for none) and path."""
    try:
        answer = visitor.get(url)
        page = read_page(answer.body, answer.url) if "html" in answer.media_type else None
        waiting = [
            form
            for form in (page.forms if page else ())
            if form.method == "post"
            and all(one.kind in ("hidden", "submit") for one in form.fields)
            and _same(form.action, answer)
        ]
        if answer.status < 400 and len(waiting) == 1:
            fields = [(one.name, one.value) for one in waiting[0].fields]
            answer = visitor.submit("post", waiting[0].action, fields, answer.url)
    except (OSError, http.client.HTTPException):
        return 0, urlsplit(url).path
    return answer.status, urlsplit(answer.url).path or "/"


def _same(action: str, answer: Answer) -> bool:
    """Whether a form goes to the page's own address, or to one that confirms: a page may have one to sign out,
    too."""
    there, here = urlsplit(action), urlsplit(answer.url)
    if there.netloc != here.netloc:
        return False
    return there.path == here.path or _CONFIRMS.search(there.path) is not None
