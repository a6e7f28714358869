"""What of a server's interface can be asked without knowing anything: routes that the code names, and those
of an OpenAPI document (version 2 or 3) that need nothing but a GET."""

from __future__ import annotations

import http.client
import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Any
from urllib.parse import urljoin

from msgspec import Struct

from plainfall.errors import BadInput
from plainfall.reading import foreign_json
from plainfall.server.visitor import Visitor

__all__ = ["Endpoint", "ask_endpoints"]

_DOCUMENTS = (
    "/openapi.json",
    "/api/openapi.json",
    "/swagger.json",
    "/api/swagger.json",
    "/api-json",
    "/v3/api-docs",
    "/api/schema/?format=json",
)
_MOST = 20


class Endpoint(Struct, frozen=True):
    """A path that was asked: its status (0 for no answer), the media type, bytes, seconds; ``source`` says
    where the path is from. One that wants signing in (401, 403) is not broken."""

    path: str
    status: int
    media_type: str
    size: int
    seconds: float
    source: str

    @property
    def broken(self) -> bool:
        """Whether it does not answer, or fails."""
        return self.status == 0 or self.status >= 500 or self.status == 404

    def as_json(self) -> dict[str, Any]:
        """The form that ``probe --json`` shows."""
        return {
            "path": self.path,
            "status": self.status,
            "media_type": self.media_type,
            "bytes": self.size,
            "seconds": round(self.seconds, 4),
            "source": self.source,
        }


def ask_endpoints(base: str, routes: Sequence[str], visitor: Visitor) -> list[Endpoint]:
    """Asks every route, and those of the server's own OpenAPI document if it shows one; 20 at the most."""
    paths = dict.fromkeys((route for route in routes if route.startswith("/")), "the code's route")
    for path, source in _documented(base, visitor):
        paths.setdefault(path, source)
    return [_ask(base, path, source, visitor) for path, source in list(paths.items())[:_MOST]]


def _ask(base: str, path: str, source: str, visitor: Visitor) -> Endpoint:
    try:
        answer = visitor.get(urljoin(base, path))
    except (OSError, http.client.HTTPException):
        return Endpoint(path, 0, "", 0, 0.0, source)
    return Endpoint(path, answer.status, answer.media_type, len(answer.body), answer.seconds, source)


def _documented(base: str, visitor: Visitor) -> Iterator[tuple[str, str]]:
    for place in _DOCUMENTS:
        try:
            answer = visitor.get(urljoin(base, place))
            document = (
                foreign_json(answer.body, place)
                if answer.status == 200 and b'"paths"' in answer.body
                else None
            )
        except (OSError, http.client.HTTPException, BadInput):
            continue  # no such document, or it is none
        if isinstance(document, dict) and (document.get("openapi") or document.get("swagger")):
            prefix = str(document.get("basePath") or "").rstrip("/")
            for path, methods in (document.get("paths") or {}).items():
                if isinstance(methods, dict) and _needs_nothing(path, methods):
                    yield f"{prefix}{path}", place
            return


def _needs_nothing(path: str, methods: Mapping[str, Any]) -> bool:
    if re.search(r"\{[^{}]*\}", path) or not isinstance(methods.get("get"), dict):
        return False
    every = [*(methods.get("parameters") or ()), *(methods["get"].get("parameters") or ())]
    return not any(isinstance(one, dict) and one.get("required") for one in every)
