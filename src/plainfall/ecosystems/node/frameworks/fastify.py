"""Fastify's own command line, which watches the clone: what Plainfall keeps in it is no reason to start anew."""

from __future__ import annotations

from plainfall.clone.frameworks import FrameworkFound
from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.recognise.dev_servers import DevServer, dev_server

__all__ = ["recognise"]

ORDER = 7

ALONE = True
_SERVER = DevServer(
    "Fastify",
    r"(^|[\s/])fastify\s+start\b",
    variables={"FASTIFY_IGNORE_WATCH": ".plainfall"},
    package="fastify-cli",
)


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part whose script starts an application with ``fastify start``; its port is the variable's."""
    return dev_server(tree, folder, names, _SERVER)
