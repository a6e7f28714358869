"""Pyramid and other applications that a configuration file with a server section describes (PasteDeploy)."""

from __future__ import annotations

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import RANK, FrameworkFound, Traits
from plainfall.clone.walk import Tree
from plainfall.ecosystems.python.recognise.applications import server_configuration

__all__ = ["TRAITS", "recognise"]

ORDER = 1
TRAITS = Traits(("Pyramid",))


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part that lists Pyramid and has such a file."""
    place = server_configuration(tree, folder)
    if place is None or not any(name == "pyramid" or name.startswith("pyramid-") for name in names):
        return None
    file = place.path.rpartition("/")[2]
    command = Command(
        "server", f"pserve {file} --reload", "the server of its configuration", RANK, place, folder
    )
    return FrameworkFound("Pyramid", place, (command,))
