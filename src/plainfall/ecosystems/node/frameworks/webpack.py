"""Webpack's dev server, and the two React and Vue tools that are built on it."""

from __future__ import annotations

from collections.abc import Callable

from plainfall.clone.frameworks import FrameworkFound, Traits
from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.recognise.dev_servers import DevServer, dev_server
from plainfall.patterns import regex
from plainfall.server.reload_channel import Channel

__all__ = ["TRAITS", "recognise", "reload_channel"]

ORDER = 8

ALONE = True
_WORDS = "--host 127.0.0.1 --port ${PORT:-8080}"
_SERVERS = (
    # Takes both from variables; it asks whether it may take another port where it can, so it gets a free one.
    DevServer("React Scripts", r"(^|[\s/])react-scripts\s+start\b", variables={"HOST": "127.0.0.1"}),
    DevServer("Vue CLI", r"(^|[\s/])vue-cli-service\s+serve\b", _WORDS),
    DevServer(
        "Webpack",
        r"(^|[\s/])webpack(-dev-server|\s+(serve|server))\b",
        _WORDS,
        bare="webpack serve",
        package="webpack-dev-server",
        files=("webpack.config.*",),
    ),
)
TRAITS = Traits(
    ("React Scripts", "Vue CLI", "Webpack"),
    {"react-scripts": 3000, "@vue/cli-service": 8080},
    client_prefixes=("REACT_APP_", "VUE_APP_"),
    reads_local=True,
    configuration="webpack",
)


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part whose script starts one of these dev servers."""
    result = (dev_server(tree, folder, names, server) for server in _SERVERS)
    return next((one for one in result if one), None)


def reload_channel(paths: list[str], body: str, text_of: Callable[[str], str]) -> Channel | None:
    """The channel of its dev server: of the older ones by SockJS, whose plain channel lies one below, or as the old
    React Scripts open it."""
    bundles = [path for path in paths if _BUNDLE.search(path)]
    if not bundles and not _CLIENT.search(body):
        return None
    for text in (text_of(path) for path in bundles[:_BUNDLES]):
        if "sockjs-node" in text:
            return Channel(
                "/sockjs-node/websocket" if "new SockJS" in text else "/sockjs-node", "", "Webpack"
            )
        if _CLIENT.search(text):
            return Channel("/ws", "", "Webpack")
    sure = _CLIENT.search(body) or any("bundle.js" in one for one in bundles)
    return Channel("/ws", "", "Webpack") if sure else None


_BUNDLE = regex(r"bundle\.js|(^|/)(main|app|chunk-vendors|vendors?)(\.chunk)?\.js$")
_CLIENT = regex(r"webpack-dev-server|webpackHotUpdate")
_BUNDLES = 4  # of a page that are looked into
