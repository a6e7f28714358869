"""Astro."""

from __future__ import annotations

from plainfall.clone.frameworks import FrameworkFound, Traits
from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.recognise.dev_servers import DevServer, dev_server

__all__ = ["TRAITS", "recognise"]

ORDER = 3

ALONE = True
_SERVER = DevServer(
    "Astro",
    r"(^|[\s/])astro\s+(dev|start)\b",
    "--host 127.0.0.1 --port ${PORT:-4321}",
    {"ASTRO_TELEMETRY_DISABLED": "1"},
    "astro dev",
    "astro",
    ("astro.config.*",),
)
TRAITS = Traits(
    ("Astro",),
    {"astro": 4321},
    client_prefixes=("PUBLIC_",),
    reads_local=True,
    left_behind=(".astro/",),
    configuration="astro",
)


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part whose script starts Astro, or that has its configuration."""
    return dev_server(tree, folder, names, _SERVER)
