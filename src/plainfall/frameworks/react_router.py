"""React Router as a framework, and Remix before it."""

from __future__ import annotations

from plainfall.frameworks import FrameworkFound
from plainfall.frameworks.node_scripts import DevServer, dev_server
from plainfall.survey.walk import Tree

__all__ = ["recognise"]

ALONE = True
_SERVER = DevServer(
    "React Router",
    r"(^|[\s/])(react-router\s+dev|remix\s+vite:dev)\b",
    "--host 127.0.0.1 --port ${PORT:-5173}",
)


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part whose script starts it."""
    return dev_server(tree, folder, names, _SERVER)
