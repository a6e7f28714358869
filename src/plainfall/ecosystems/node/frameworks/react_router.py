"""React Router as a framework, and Remix before it."""

from __future__ import annotations

from plainfall.clone.frameworks import FrameworkFound, Traits
from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.recognise.dev_servers import DevServer, dev_server

__all__ = ["TRAITS", "recognise"]

ORDER = 4

ALONE = True
_SERVER = DevServer(
    "React Router",
    r"(^|[\s/])(react-router\s+dev|remix\s+vite:dev)\b",
    "--host 127.0.0.1 --port ${PORT:-5173}",
)
TRAITS = Traits(("React Router",), reads_local=True)


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part whose script starts it."""
    return dev_server(tree, folder, names, _SERVER)
