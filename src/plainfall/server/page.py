"""What a page holds: title, headings, text, the same-origin things that it loads, links, forms."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from itertools import islice
from typing import TYPE_CHECKING
from urllib.parse import urljoin, urlsplit

from msgspec import Struct, field

from plainfall.patterns import regex

if TYPE_CHECKING:
    from selectolax.lexbor import LexborHTMLParser, LexborNode

__all__ = ["ENDS", "Field", "Form", "Page", "read_page"]

# A link that ends or takes away something, and is not followed unasked.
ENDS = regex(
    r"(log|sign)[-_]?(out|off)|delete|remove|unsubscribe|destroy|reset|shutdown|cancel|revoke|purge",
    re.IGNORECASE,
)

_SILENT = ["script", "style", "template", "noscript"]
_WANTED = {"script": "script[src]", "style": "link[rel~=stylesheet]", "image": "img[src], link[rel~=icon]"}
_LOADED_LINKS = {"stylesheet", "icon", "manifest"}


class Field(Struct, frozen=True):
    """A field of a form: name, type ("text" if the page gives none) and value; ``required`` as the page says."""

    name: str
    kind: str
    value: str
    required: bool = False


class Form(Struct, frozen=True):
    """A form: where it is sent (an absolute address), how, and its fields in order."""

    action: str
    method: str
    fields: tuple[Field, ...]

    @property
    def passwords(self) -> int:
        """How many fields for passwords it has."""
        return sum(field.kind == "password" for field in self.fields)


class Page(Struct, frozen=True):
    """Title (None if there is none), headings, the addresses of what it loads and links to (of its own
    origin, each once, in order), forms, and the text that is seen; what each loaded thing is wanted for ("script",
    "style", "image"), which of them are module scripts, and the texts of module scripts in the page itself."""

    title: str | None
    headings: tuple[str, ...] = ()
    assets: tuple[str, ...] = ()
    links: tuple[str, ...] = ()
    forms: tuple[Form, ...] = ()
    text: str = ""
    wanted: Mapping[str, str] = field(default_factory=dict)
    modules: tuple[str, ...] = ()
    inline_modules: tuple[str, ...] = ()


_MOST_ADDRESSES = 5_000  # of one kind that are read from a page
_DEEPEST = 2_000  # elements within each other; browsers flatten what lies deeper than 512
_TAG = regex(r"<(/?)([a-zA-Z][\w-]*+)[^<>]*+>")
_NO_MARKUP = ("script", "style", "textarea", "title")  # their text holds no elements
_NOT_NESTED = frozenset(
    "area base br col embed hr img input link meta param source track wbr p li td th tr dt dd option "
    "script style textarea title".split()
)


def read_page(body: bytes, url: str) -> Page:
    """Reads a page as a browser does (the HTML standard's parsing, by Lexbor); ``url`` is its address."""
    from selectolax.lexbor import LexborHTMLParser

    tree = LexborHTMLParser(_not_too_deep(body.decode("utf-8", "replace")))
    base = next((urljoin(url, href) for one in tree.css("base[href]") if (href := _value(one, "href"))), url)
    titles = [one for one in tree.css("title") if one.parent is None or one.parent.tag != "svg"]
    headings = [text for one in tree.css("h1, h2, h3") if (text := _plain(one.text()))]
    assets = _addresses(url, base, _loaded(tree))
    links = _addresses(url, base, (_value(one, "href") for one in tree.css("a[href]")))
    forms = tuple(_form(tree, one, url, base) for one in tree.css("form"))
    wanted = {
        one: kind for kind, tags in _WANTED.items() for one in _addresses(url, base, _sources(tree, tags))
    }
    modules = _addresses(url, base, _sources(tree, "script[type=module][src]"))
    inline = tuple(
        text
        for one in tree.css("script[type=module]")
        if not _value(one, "src") and (text := one.text(deep=True))
    )
    title = _plain(titles[0].text()) if titles else None
    tree.strip_tags(_SILENT)
    seen = tree.body.text(separator=" ") if tree.body is not None else ""
    return Page(title, tuple(headings[:12]), assets, links, forms, _plain(seen), wanted, modules, inline)


def _not_too_deep(text: str) -> str:
    """A page up to where its elements lie deeper in each other than any real page's: the standard's parsing looks
    at all open elements for each new one."""
    depth = position = 0
    lowered = text.lower()
    if len(lowered) != len(text):  # a letter that becomes two: places would not be the same
        lowered = text
    while match := _TAG.search(text, position):
        ends, name, position = match.group(1), match.group(2).lower(), match.end()
        closed = text[position - 2] == "/"
        if ends:
            depth = max(0, depth - (name not in _NOT_NESTED))
        elif name in _NO_MARKUP:
            position = lowered.find(f"</{name}", position)
            if position < 0:
                break
        elif not closed and name not in _NOT_NESTED:
            depth += 1
            if depth > _DEEPEST:
                return text[: match.start()]
    return text


def _sources(tree: LexborHTMLParser, selector: str) -> Iterator[str]:
    return (_value(one, "src") or _value(one, "href") for one in tree.css(selector))


def _plain(text: str) -> str:
    return " ".join(text.split())


def _value(node: LexborNode, name: str, default: str = "") -> str:
    """An attribute's value; the empty text for one without a value."""
    attributes = node.attributes
    return (attributes[name] or "") if name in attributes else default


def _loaded(tree: LexborHTMLParser) -> Iterator[str]:
    for node in tree.css("link[href], script[src], img[src], source[src], audio[src], video[src]"):
        if node.tag != "link":
            yield _value(node, "src")
        elif _LOADED_LINKS & set(_value(node, "rel").lower().split()):
            yield _value(node, "href")


def _addresses(url: str, base: str, written: Iterator[str]) -> tuple[str, ...]:
    """Absolute addresses of the page's own origin, each once."""
    results: dict[str, None] = {}
    for address in islice(written, _MOST_ADDRESSES):
        if not address or address.startswith(("data:", "blob:", "javascript:", "mailto:", "tel:", "#")):
            continue
        try:
            entire = urljoin(base, address).partition("#")[0]
            if urlsplit(entire)[:2] == urlsplit(url)[:2]:
                results[entire] = None
        except ValueError:
            continue  # no address, such as one with half a bracket
    return tuple(results)


def _form(tree: LexborHTMLParser, node: LexborNode, url: str, base: str) -> Form:
    action = urljoin(base, written) if (written := _value(node, "action")) else url
    inside = node.css("input, textarea, select, button")
    own = _value(node, "id")
    outside = [one for one in tree.css("[form]") if own and _value(one, "form") == own]
    fields = (_field(one) for one in (*inside, *outside))
    return Form(
        action, _value(node, "method", "get").lower(), tuple(one for one in fields if one is not None)
    )


def _field(node: LexborNode) -> Field | None:
    tag = node.tag or ""
    kind = _value(node, "type", "text").lower() if tag in ("input", "button") else tag
    if tag == "button":
        kind = "submit" if kind in ("text", "submit") else kind
    name = _value(node, "name")
    if not name or kind in ("reset", "button", "image", "file"):
        return None
    given = set(node.attributes)
    if kind in ("checkbox", "radio") and not {"checked", "required"} & given:
        return None
    value = node.text() if tag == "textarea" else _value(node, "value")
    if kind in ("checkbox", "radio") and "value" not in given:
        value = "on"
    return Field(name, kind, value, "required" in given)
