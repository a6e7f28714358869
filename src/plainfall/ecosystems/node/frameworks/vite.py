"""Vite, and the frameworks whose dev server it is."""

from __future__ import annotations

from plainfall.clone.frameworks import FrameworkFound
from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.dev_servers import DevServer, dev_server

__all__ = ["recognise"]

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


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part whose script starts Vite, or that has its page or configuration."""
    return dev_server(tree, folder, names, _SERVER)
