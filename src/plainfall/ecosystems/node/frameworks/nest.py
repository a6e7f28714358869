"""NestJS: the pages are those of its controllers."""

from __future__ import annotations

import re
from collections.abc import Iterator

from msgspec.structs import replace

from plainfall.clone.frameworks import FrameworkFound, Traits
from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.recognise.dev_servers import DevServer, dev_server
from plainfall.ecosystems.node.recognise.servers import own_files
from plainfall.errors import BadInput
from plainfall.patterns import regex

__all__ = ["TRAITS", "recognise"]

ORDER = 6

ALONE = True
_SERVER = DevServer(
    "NestJS",
    r"(^|[\s/])nest\s+start\b",
    bare="nest start",
    package="@nestjs/core",
    files=("nest-cli.json", "src/main.ts"),
)
_PREFIX = regex(r"setGlobalPrefix\(\s*['\"`]/?([\w/-]+)")
_CONTROLLER = regex(r"@Controller\(\s*(?:['\"`]/?([\w/-]*)['\"`]\s*)?\)")
_GET = regex(r"@Get\(\s*(?:['\"`]/?([\w/-]*)['\"`]\s*)?\)")
TRAITS = Traits(("NestJS",), {"@nestjs/core": 3000})


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part whose script starts NestJS, or that has its configuration. The port is the variable's, or what
    its main file says."""
    result = dev_server(tree, folder, names, _SERVER)
    return replace(result, pages=tuple(_pages(tree, folder))[:6]) if result else None


def _pages(tree: Tree, folder: str) -> Iterator[str]:
    place = f"{folder}/" if folder else ""
    texts = []
    for path in own_files(tree, folder):
        if re.search(r"(^|/)(main|[^/]*\.controller)\.[jt]s$", path):
            try:
                texts.append(tree.text(place + path))
            except BadInput:
                continue  # not text: no controller
    prefix = next((match.group(1) for text in texts if (match := _PREFIX.search(text))), "")
    for text in texts:
        controller = _CONTROLLER.search(text)
        for get in _GET.finditer(text) if controller else ():
            pieces = [prefix, (controller and controller.group(1)) or "", get.group(1) or ""]
            yield "/" + "/".join(piece.strip("/") for piece in pieces if piece)
