"""What Node finds in a clone, in the shape that every language has."""

from __future__ import annotations

import re
import shlex
from collections.abc import Collection, Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any

from plainfall.clone.commands import Command
from plainfall.clone.parts import DependencyFile, Extension, PortWanted
from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.install.bins import bins_of
from plainfall.ecosystems.node.lists.discover import COMPONENTS, dependency_file
from plainfall.ecosystems.node.recognise.page_clients import is_client
from plainfall.ecosystems.node.recognise.ports import manifest_ports
from plainfall.ecosystems.node.recognise.scripts import (
    build_command,
    install_commands,
    node_commands,
    secondary_commands,
)
from plainfall.ecosystems.node.recognise.servers import (
    leaves_servers_to_others,
    scripts_of,
    serves_here,
    starts_others,
)
from plainfall.ecosystems.node.recognise.workspaces import owner_of
from plainfall.ecosystems.node.runtime.asks import manifest, node_asks
from plainfall.ecosystems.node.runtime.builtins import needed_modules
from plainfall.ecosystems.shared.plain_language import PlainRecognising
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.runtimes.asks import VersionAsk

__all__ = ["NodeRecognising"]

_DEVELOPMENT_SCRIPTS = ("dev", "start:dev", "start", "serve")


class NodeRecognising(PlainRecognising):
    """Parts with a ``package.json``, or with a list of browser components."""

    def recognise(self, tree: Tree, folder: str) -> list[Evidence]:
        """A folder with a manifest. A workspace of a part above belongs to that one, but for those with a
        server of their own that no script of that part alone would start."""
        path = f"{folder}/package.json" if folder else "package.json"
        if path not in tree:
            components = f"{folder}/{COMPONENTS}" if folder else COMPONENTS
            return [Evidence(components, 1)] if components in tree else []
        document = manifest(tree, folder)
        owner = owner_of(tree, folder)
        if owner is not None:
            own = (
                owner[1] and leaves_servers_to_others(tree, owner[0]) and serves_here(tree, folder, owner[0])
            )
            return [tree.line_of(path, '"scripts"')] if own else []
        if (f"{folder}/pnpm-workspace.yaml" if folder else "pnpm-workspace.yaml") in tree:
            return [Evidence(path, 1)]
        tables = ("scripts", "dependencies", "devDependencies", "workspaces", "main", "bin", "engines")
        return [Evidence(path, 1)] if any(document.get(table) for table in tables) else []

    def asks(self, tree: Tree, folder: str, cache: Path | None) -> list[VersionAsk]:
        return node_asks(tree, folder, cache)

    def asks_of_time(self, day: str) -> list[VersionAsk]:
        return []

    def may_serve(self, tree: Tree, folder: str, names: Collection[str]) -> bool:
        return True

    def environment_folders(self, tree: Tree, folder: str) -> list[str]:
        return []  # the runtime looks into one folder only

    def asks_for_module(self, module: str) -> list[VersionAsk]:
        return []

    def extensions(self, tree: Tree, folder: str) -> tuple[Extension, ...]:
        return needed_modules(tree, folder)

    def dependencies(self, tree: Tree, folder: str) -> DependencyFile | None:
        return dependency_file(tree, folder)

    def commands(self, tree: Tree, folder: str) -> list[Command]:
        return node_commands(tree, folder)

    def programs(self, tree: Tree, folder: str) -> frozenset[str]:
        return frozenset(bins_of(manifest(tree, folder)))

    def after_installing(self, tree: Tree, folder: str) -> list[Command]:
        """The manifest's scripts that an install runs, those of its workspaces first."""
        return install_commands(tree, folder)

    def build_command(self, tree: Tree, folder: str) -> Command | None:
        return build_command(tree, folder)

    def secondary_commands(self, tree: Tree, folder: str, commands: list[Command]) -> list[Command]:
        """A framework's dev server, if there is one; else the build, whose result the other part serves."""
        return secondary_commands(tree, folder, commands)

    def starts_others(self, tree: Tree, folder: str, line: str) -> bool:
        return starts_others(tree, folder, line)

    def script_texts(self, tree: Tree, folder: str) -> Iterable[str]:
        try:
            scripts = scripts_of(tree, folder)
        except BadInput:
            return ()  # a damaged manifest is reported by the step that installs from it
        return [scripts[name] for name in _DEVELOPMENT_SCRIPTS if name in scripts]

    def ports(self, tree: Tree, folder: str) -> Iterator[PortWanted]:
        return manifest_ports(tree, folder)

    def serves_client(self, tree: Tree, folder: str) -> bool:
        return is_client(tree, folder)

    def editor_command(self, row: Mapping[str, Any], words: list[str], program: str) -> str:
        if row.get("type") not in ("node", "pwa-node"):
            return ""
        value = row.get("runtimeArgs")
        runs = [str(word) for word in value] if isinstance(value, list) else []
        if row.get("runtimeExecutable") in ("npm", "yarn", "pnpm"):
            return shlex.join([str(row["runtimeExecutable"]), *runs])
        return shlex.join(["node", *runs, program, *words]) if re.search(r"\.[cm]?js$", program) else ""
