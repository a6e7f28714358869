"""Angular's command line. It asks at first whether it may gather figures; it is told that it may not."""

from __future__ import annotations

from plainfall.clone.frameworks import FrameworkFound, Traits
from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.recognise.dev_servers import DevServer, dev_server

__all__ = ["TRAITS", "recognise"]

ORDER = 5

ALONE = True
_SERVER = DevServer(
    "Angular",
    r"(^|[\s/])ng\s+(s|serve)\b",
    "--host 127.0.0.1 --port ${PORT:-4200}",
    {"NG_CLI_ANALYTICS": "false"},
    "ng serve",
    "@angular/cli",
    ("angular.json",),
)
TRAITS = Traits(("Angular",), {"@angular/core": 4200}, left_behind=(".angular/",), configuration="angular")


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part whose script starts it, or that has its workspace file."""
    return dev_server(tree, folder, names, _SERVER)
