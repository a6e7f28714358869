"""Next.js."""

from __future__ import annotations

from plainfall.clone.frameworks import FrameworkFound
from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.dev_servers import DevServer, dev_server

__all__ = ["recognise"]

ORDER = 1

ALONE = True
_SERVER = DevServer(
    "Next.js",
    r"(^|[\s/])next(\s+(dev|start))?(\s+-|\s*$|\s*[&|])",
    "-H 127.0.0.1 -p ${PORT:-3000}",
    {"NEXT_TELEMETRY_DISABLED": "1"},
    "next dev",
    "next",
    ("next.config.*", "app/page.*", "pages/index.*", "src/app/page.*", "src/pages/index.*"),
)


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part whose script starts Next.js, or that has its pages."""
    return dev_server(tree, folder, names, _SERVER)
