"""Vite, and the frameworks whose dev server it is."""

from __future__ import annotations

import re
from collections.abc import Callable

from plainfall.clone.frameworks import FrameworkFound, Traits
from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.recognise.dev_servers import DevServer, dev_server
from plainfall.server.reload_channel import Channel

__all__ = ["TRAITS", "recognise", "reload_channel"]

ORDER = 7

ALONE = True
_SERVER = DevServer(
    "Vite",
    r"(^|[\s/])vite(\s+(dev|serve))?(\s+-|\s*$|\s*[&|])",
    "--host 127.0.0.1 --port ${PORT:-5173} --strictPort",
    bare="vite",
    package="vite",
    files=("index.html", "vite.config.*"),
)
TRAITS = Traits(
    ("Vite",),
    {"vite": 5173},
    client_prefixes=("VITE_",),
    reads_local=True,
    configuration="vite",
)


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part whose script starts Vite, or that has its page or configuration."""
    return dev_server(tree, folder, names, _SERVER)


def reload_channel(paths: list[str], body: str, text_of: Callable[[str], str]) -> Channel | None:
    """The channel that its client script opens, with the token that the script holds."""
    if "/@vite/client" not in paths:
        return None
    token = re.search(r"wsToken\s*=\s*\"([^\"]+)\"", text_of("/@vite/client"))
    return Channel(f"/?token={token.group(1)}" if token else "/", "vite-hmr", "Vite")
