"""What a page holds: title, headings, text, the same-origin things that it loads, links, forms."""

from __future__ import annotations

from dataclasses import dataclass
from html.parser import HTMLParser
from urllib.parse import urljoin, urlsplit

__all__ = ["Field", "Form", "Page", "read_page"]

_HEADINGS = ("h1", "h2", "h3")
_SILENT = ("script", "style", "template", "noscript")


@dataclass(frozen=True)
class Field:
    """A field of a form: name, type ("text" where none is said) and value; ``required`` as the page says."""

    name: str
    kind: str
    value: str
    required: bool = False


@dataclass(frozen=True)
class Form:
    """A form: where it is sent (an absolute address), how, and its fields in order."""

    action: str
    method: str
    fields: tuple[Field, ...]

    @property
    def passwords(self) -> int:
        """How many fields for passwords it has."""
        return sum(field.kind == "password" for field in self.fields)


@dataclass(frozen=True)
class Page:
    """Title (None if there is none), headings, the addresses of what it loads and links to (of its own
    origin, each once, in order), forms, and the text that is seen."""

    title: str | None
    headings: tuple[str, ...] = ()
    assets: tuple[str, ...] = ()
    links: tuple[str, ...] = ()
    forms: tuple[Form, ...] = ()
    text: str = ""


def read_page(body: bytes, url: str) -> Page:
    """Reads a page; ``url`` is its address."""
    parser = _Parser(url)
    parser.feed(body.decode("utf-8", "replace"))
    parser.close()
    title = " ".join("".join(parser.title).split()) if parser.title else None
    headings = tuple(text for pieces in parser.headings if (text := " ".join("".join(pieces).split())))
    return Page(
        title,
        headings[:12],
        tuple(dict.fromkeys(parser.assets)),
        tuple(dict.fromkeys(parser.links)),
        tuple(Form(action, method, tuple(fields)) for action, method, fields in parser.forms),
        " ".join("".join(parser.text).split()),
    )


@dataclass
class _Open:
    heading: bool = False
    title: bool = False
    silent: int = 0
    form: bool = False


class _Parser(HTMLParser):
    def __init__(self, url: str) -> None:
        super().__init__(convert_charrefs=True)
        self.base = self.url = url
        self.origin = urlsplit(url)[:2]
        self.title: list[str] = []
        self.headings: list[list[str]] = []
        self.assets: list[str] = []
        self.links: list[str] = []
        self.forms: list[tuple[str, str, list[Field]]] = []
        self.text: list[str] = []
        self._open = _Open()
        self._had_title = False

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        values = {name: value or "" for name, value in attrs}
        if tag == "title" and not self._had_title:
            self._open.title = self._had_title = True
        elif tag in _HEADINGS:
            self._open.heading = True
            self.headings.append([])
        elif tag == "base" and values.get("href"):
            self.base = urljoin(self.base, values["href"])
        elif tag == "a":
            self._address(values.get("href", ""), self.links)
        elif tag == "form":
            action = urljoin(self.base, values.get("action", "")) if values.get("action") else self.url
            self.forms.append((action, values.get("method", "get").lower(), []))
            self._open.form = True
        elif tag in ("input", "textarea", "select", "button") and self._open.form:
            self._field(tag, values, {name for name, _ in attrs})
        elif tag == "link":
            if {"stylesheet", "icon", "manifest"} & set(values.get("rel", "").lower().split()):
                self._address(values.get("href", ""), self.assets)
        elif tag in ("script", "img", "source", "audio", "video"):
            self._address(values.get("src", ""), self.assets)
        if tag in _SILENT:
            self._open.silent += 1

    def handle_endtag(self, tag: str) -> None:
        if tag == "title":
            self._open.title = False
        elif tag in _HEADINGS:
            self._open.heading = False
        elif tag == "form":
            self._open.form = False
        elif tag in _SILENT:
            self._open.silent = max(0, self._open.silent - 1)

    def handle_data(self, data: str) -> None:
        if self._open.title:
            self.title.append(data)
        elif self._open.heading:
            self.headings[-1].append(data)
        if not self._open.silent and not self._open.title:
            self.text += [data, " "]

    def _field(self, tag: str, values: dict[str, str], given: set[str]) -> None:
        kind = values.get("type", "text").lower() if tag in ("input", "button") else tag
        if tag == "button":
            kind = "submit" if kind in ("text", "submit") else kind
        if not values.get("name") or kind in ("reset", "button", "image", "file"):
            return
        if kind in ("checkbox", "radio") and not {"checked", "required"} & given:
            return
        value = values.get("value", "on" if kind in ("checkbox", "radio") else "")
        self.forms[-1][2].append(Field(values["name"], kind, value, "required" in given))

    def _address(self, address: str, into: list[str]) -> None:
        if not address or address.startswith(("data:", "blob:", "javascript:", "mailto:", "tel:", "#")):
            return
        url = urljoin(self.base, address).partition("#")[0]
        if urlsplit(url)[:2] == self.origin:
            into.append(url)
