"""What the modules of Node frameworks share: the manifest's scripts, and dev servers that take host and port
in their own way."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

from msgspec import Struct, field

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import RANK, FrameworkFound
from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.recognise.servers import SERVERS, fans_out, scripts_of
from plainfall.evidence import Evidence

__all__ = ["DevServer", "dev_server", "file_of", "listed_at"]


class DevServer(Struct, frozen=True):
    """A framework's dev server: the pattern of a script that starts it, the words that give it host and port
    (behind the script's own), variables that keep it from asking questions, and, for a manifest without such
    a script, the bare command with the package and the files (any of them) that must exist."""

    title: str
    pattern: str
    words: str = ""
    variables: Mapping[str, str] = field(default_factory=dict)
    bare: str = ""
    package: str = ""
    files: tuple[str, ...] = ()


def dev_server(tree: Tree, folder: str, names: frozenset[str], server: DevServer) -> FrameworkFound | None:
    """The framework, if a script of the manifest starts its dev server or its files say so."""
    commands = list(_by_script(tree, folder, server)) or list(_bare(tree, folder, names, server))
    if not commands:
        return None
    return FrameworkFound(server.title, commands[0].evidence, tuple(commands), server.variables)


def _by_script(tree: Tree, folder: str, server: DevServer) -> Iterator[Command]:
    scripts = scripts_of(tree, folder)
    for position, name in enumerate(one for one in SERVERS if one in scripts):
        if re.search(server.pattern, scripts[name]) and not fans_out(scripts[name]):
            reason = f"{server.title}'s dev server, which the manifest's script {name!r} starts"
            words = f" -- {server.words}" if server.words else ""
            line = f"npm run {name}{words}"
            place = listed_at(tree, folder, name)
            yield Command("server", line, reason, RANK + 8 - position, place, folder)


def _bare(tree: Tree, folder: str, names: frozenset[str], server: DevServer) -> Iterator[Command]:
    here = [path for name in server.files if (path := file_of(tree, folder, name))]
    if server.bare and server.package in names and here:
        line = f"{server.bare} {server.words}".strip()
        yield Command("server", line, f"{server.title}'s dev server", RANK, Evidence(here[0], 1), folder)


def listed_at(tree: Tree, folder: str, name: str) -> Evidence:
    """The manifest's line of a script or a dependency."""
    return tree.line_of(f"{folder}/package.json" if folder else "package.json", f'"{name}":')


def file_of(tree: Tree, folder: str, name: str) -> str | None:
    """The path, in the clone, of a part's file, if it is there; ``.*`` at the end stands for any ending."""
    path = f"{folder}/{name}" if folder else name
    if not name.endswith(".*"):
        return path if path in tree else None
    stem = path.removesuffix("*")
    place, _, base = stem.rpartition("/")
    return next(
        (f"{place}/{one}" if place else one for one in tree.folders.get(place, ()) if one.startswith(base)),
        None,
    )
