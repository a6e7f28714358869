"""Nuxt."""

from __future__ import annotations

from plainfall.clone.frameworks import FrameworkFound, Traits
from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.recognise.dev_servers import DevServer, dev_server

__all__ = ["TRAITS", "recognise"]

ORDER = 2

ALONE = True
_SERVER = DevServer(
    "Nuxt",
    r"(^|[\s/])(nuxt|nuxi)(\s+dev)?(\s+-|\s*$|\s*[&|])",
    "--host 127.0.0.1 --port ${PORT:-3000}",
    {"NUXT_TELEMETRY_DISABLED": "1"},
    "nuxt dev",
    "nuxt",
    ("nuxt.config.*",),
)
TRAITS = Traits(
    ("Nuxt",),
    {"nuxt": 3000},
    client_prefixes=("NUXT_PUBLIC_", "NUXT_"),
    left_behind=(".nuxt/",),
    configuration="nuxt",
)


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part whose script starts Nuxt, or that has its configuration."""
    return dev_server(tree, folder, names, _SERVER)
