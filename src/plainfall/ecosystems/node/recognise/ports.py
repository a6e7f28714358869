"""Ports that a manifest's scripts and the configuration of its dev servers name."""

from __future__ import annotations

import re
from collections.abc import Iterator

from plainfall.clone.parts import PortWanted
from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.recognise.servers import scripts_of
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["manifest_ports"]

_IN_SCRIPT = regex(r"(?:--port[ =]|-p[ =]|\bPORT=)(\d{2,5})\b")
_SCRIPTS = ("dev", "start:dev", "serve", "start")


def _scripts(tree: Tree, folder: str) -> dict[str, str]:
    try:
        return scripts_of(tree, folder)
    except BadInput:
        return {}  # a damaged manifest is reported by the step that installs from it


def manifest_ports(tree: Tree, folder: str) -> Iterator[PortWanted]:
    """The port that a script of the manifest names, then that of a dev server's configuration file."""
    path = f"{folder}/package.json" if folder else "package.json"
    for name, text in _scripts(tree, folder).items():
        match = _IN_SCRIPT.search(text) if name in _SCRIPTS else None
        if match:
            yield PortWanted(int(match.group(1)), f"the script {name!r}", tree.line_of(path, f'"{name}"'))
    place = f"{folder}/" if folder else ""
    for name in tree.folders.get(folder, ()):
        if re.match(r"(vite|vue|nuxt|webpack)\.config\.\w+$", name):
            try:
                text = tree.text(place + name)
            except BadInput:
                continue  # what cannot be read says nothing of a port
            match = re.search(r"\bport:\s*(\d{2,5})\b", text)
            if match:
                line = text.count("\n", 0, match.start()) + 1
                yield PortWanted(int(match.group(1)), f"{name}", Evidence(place + name, line, match.group(0)))
