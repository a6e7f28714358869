"""Next.js."""

from __future__ import annotations

from collections.abc import Callable

from plainfall.clone.frameworks import Form, FrameworkFound, SecretForm, Traits
from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.recognise.dev_servers import DevServer, dev_server
from plainfall.server.reload_channel import Channel

__all__ = ["TRAITS", "recognise", "reload_channel"]

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
TRAITS = Traits(
    ("Next", "Next.js"),
    {"next": 3000},
    client_prefixes=("NEXT_PUBLIC_",),
    secrets=(
        SecretForm(("NEXTAUTH_SECRET", "AUTH_SECRET"), Form("base64", 32, "", "the sign-in library"), True),
    ),
    reads_local=True,
    left_behind=(".next/",),
    configuration="next",
)


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part whose script starts Next.js, or that has its pages."""
    return dev_server(tree, folder, names, _SERVER)


def reload_channel(paths: list[str], body: str, text_of: Callable[[str], str]) -> Channel | None:
    """The channel of its own bundler."""
    if not any(path.startswith("/_next/static/") for path in paths):
        return None
    return Channel("/_next/webpack-hmr", "", "Next.js")
