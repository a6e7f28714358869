"""What a page holds: its title and the same-origin stylesheets, scripts and pictures that it loads."""

from __future__ import annotations

from html.parser import HTMLParser
from urllib.parse import urljoin, urlsplit

__all__ = ["read_page"]


def read_page(body: bytes, url: str) -> tuple[str | None, list[str]]:
    """The title (None if there is none) and the addresses of the assets, each once, in order."""
    parser = _Page(url)
    parser.feed(body.decode("utf-8", "replace"))
    title = " ".join("".join(parser.title).split()) if parser.title else None
    return title, list(dict.fromkeys(parser.assets))


class _Page(HTMLParser):
    def __init__(self, url: str) -> None:
        super().__init__(convert_charrefs=True)
        self.base = url
        self.origin = urlsplit(url)[:2]
        self.title: list[str] = []
        self.assets: list[str] = []
        self._in_title = False
        self._had_title = False

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        values = {name: value or "" for name, value in attrs}
        if tag == "title" and not self._had_title:
            self._in_title = self._had_title = True
        elif tag == "base" and values.get("href"):
            self.base = urljoin(self.base, values["href"])
        elif tag == "link" and {"stylesheet", "icon", "manifest"} & set(
            values.get("rel", "").lower().split()
        ):
            self._asset(values.get("href", ""))
        elif tag in ("script", "img", "source", "audio", "video"):
            self._asset(values.get("src", ""))

    def handle_endtag(self, tag: str) -> None:
        if tag == "title":
            self._in_title = False

    def handle_data(self, data: str) -> None:
        if self._in_title:
            self.title.append(data)

    def _asset(self, address: str) -> None:
        if not address or address.startswith(("data:", "blob:", "javascript:")):
            return
        url = urljoin(self.base, address).partition("#")[0]
        if urlsplit(url)[:2] == self.origin:
            self.assets.append(url)
