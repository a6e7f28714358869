"""Node, in the shape that every ecosystem has."""

from __future__ import annotations

import os
from collections.abc import Collection, Mapping, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import quote

from plainfall.clone.commands import Command
from plainfall.clone.parts import DependencyFile, PartFound
from plainfall.clone.walk import Tree
from plainfall.ecosystems import (
    CloneAccess,
    Debugging,
    DebugWish,
    EnvironmentStanding,
    Installation,
    InstallWishes,
    Progress,
)
from plainfall.ecosystems.node import runner
from plainfall.ecosystems.node.asks import manifest, node_asks
from plainfall.ecosystems.node.interpreters import GRAMMAR, interpreter_at, node_interpreters
from plainfall.ecosystems.node.lines import known_lines
from plainfall.ecosystems.node.lists import COMPONENTS, dependency_file, folders_to
from plainfall.ecosystems.node.scripts import beside_another, node_commands
from plainfall.ecosystems.node.servers import leaves_servers_to_others, serves_here
from plainfall.ecosystems.node.workspaces import owner_of
from plainfall.errors import NoFittingRuntime
from plainfall.evidence import Evidence
from plainfall.packages.consent import Withheld
from plainfall.runtimes.asks import VersionAsk
from plainfall.runtimes.choice import Choice, choose, named_choice
from plainfall.runtimes.interpreters import Interpreter
from plainfall.surroundings import Surroundings
from plainfall.writing import digest_of

__all__ = ["ECOSYSTEM", "NodeEcosystem"]

_FOLDER = "node_modules"


class NodeEcosystem:
    """Node parts: ``package.json``, ``node_modules``."""

    name = "node"
    title = "Node"
    grammar = GRAMMAR

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

    def dependencies(self, tree: Tree, folder: str) -> DependencyFile | None:
        return dependency_file(tree, folder)

    def commands(self, tree: Tree, folder: str) -> list[Command]:
        return node_commands(tree, folder)

    def beside(self, tree: Tree, folder: str, commands: list[Command]) -> list[Command]:
        """A framework's dev server, if there is one; else the build, whose result the other part serves."""
        return beside_another(tree, folder, commands)

    def needs(self, tree: Tree, folder: str) -> dict[str, Evidence]:
        return {}

    def choose_runtime(
        self,
        part: PartFound,
        surroundings: Surroundings,
        named: Path | None,
        progress: Progress | None = None,
        *,
        offline: bool = False,
    ) -> Choice:
        if named is None:
            majors = set(known_lines(surroundings.cache).majors)

            def has_long_support(version: str) -> int:
                return int(GRAMMAR.order(version)[:1] != () and GRAMMAR.order(version)[0] in majors)

            found = node_interpreters(surroundings)
            try:
                return choose(self.title, part.asks, found, GRAMMAR, lambda one: None, has_long_support)
            except NoFittingRuntime:
                here = [one for one in found if isinstance(one, Interpreter)]
                fetched = None
                if not offline:
                    from plainfall.ecosystems.node.fetched import fetched_runtime

                    tell = progress or (lambda done, whole, unit: None)
                    fetched = fetched_runtime(part.asks, surroundings, here, tell)
                if fetched is None:
                    raise
                return fetched
        return named_choice(self.title, named, interpreter_at, part.asks, GRAMMAR)

    def missing_driver(self, settings: Mapping[str, str], names: Collection[str]) -> tuple[str, str] | None:
        return None

    def environment_standing(self, folder: Path, choice: Choice, access: CloneAccess) -> EnvironmentStanding:
        place = folder / _FOLDER
        if place.is_symlink():
            reason = f"it is a link, to {os.readlink(place)}, and packages would be laid there"
            return EnvironmentStanding("wrong", _FOLDER, reason)
        return EnvironmentStanding("right" if place.is_dir() else "absent", _FOLDER, ours=True)

    def make_environment(
        self, folder: Path, choice: Choice, prompt: str, making: Path, access: CloneAccess
    ) -> None:
        """The runtime finds the folder by itself; it only has to be there, and be no link."""
        access.confined.own_folder(folder / _FOLDER)

    def variables(self, folder: Path, choice: Choice, access: CloneAccess) -> dict[str, str]:
        root = access.confined.root
        inner = Path(os.path.realpath(folder)).relative_to(root).as_posix()
        name = "top" if inner == "." else quote(os.fsencode(inner), safe="")
        names = root / ".plainfall" / "commands" / (digest_of(name) if len(name) > 200 else name)
        above = folders_to(root, root / inner)
        interpreter = choice.taken
        runner.write_names(access.confined, names, _builder(interpreter))
        node = names / "node"
        if not node.is_symlink() or os.readlink(node) != str(interpreter.file):
            access.confined.remove(node)
            access.confined.link(node, str(interpreter.file))
        path = os.pathsep.join([str(names), *(str(one / _FOLDER / ".bin") for one in above)])
        own = {"PATH": path, "NODE": str(interpreter.file), "BROWSER": "none", "FORCE_COLOR": "0"}
        headers = interpreter.file.parent.parent / "include/node/node.h"
        if headers.is_file():
            own["npm_config_nodedir"] = str(interpreter.file.parent.parent)
        return own

    def debugging(self, wish: DebugWish) -> Debugging:
        """The runtime's own inspector, in every process that the command starts: the first has the port."""
        attach = {
            "name": f"attach to {wish.folder.name}",
            "type": "node",
            "request": "attach",
            "address": "127.0.0.1",
            "port": wish.port,
            "localRoot": str(wish.folder),
            "remoteRoot": str(wish.folder),
            "skipFiles": ["<node_internals>/**"],
        }
        return Debugging({"NODE_OPTIONS": f"--inspect=127.0.0.1:{wish.port}"}, (), attach)

    def withheld(
        self,
        clone: Path,
        folder: Path,
        listed: DependencyFile,
        surroundings: Surroundings,
        wishes: InstallWishes,
    ) -> Sequence[Withheld]:
        from plainfall.ecosystems.node.configuration import project_withholds

        return project_withholds(surroundings, folders_to(clone, folder), wishes.hosts)

    def install(
        self,
        clone: Path,
        folder: Path,
        listed: DependencyFile,
        choice: Choice,
        surroundings: Surroundings,
        wishes: InstallWishes,
        state: Path,
        memory: Mapping[str, Any],
        progress: Progress,
        access: CloneAccess,
    ) -> Installation:
        if listed.kind == "workspace":
            return Installation(title=f"installed with {listed.reason}")
        from plainfall.ecosystems.node.installing import install

        inside = str(folder.relative_to(clone)) if folder != clone else ""
        path = f"{inside}/package.json" if inside else "package.json"
        document = manifest(Tree(clone, (path,) if (clone / path).is_file() else ()), inside)
        own = self.variables(folder, choice, access)
        variables = surroundings.for_project()
        variables |= {**own, "PATH": os.pathsep.join((own["PATH"], variables["PATH"]))}
        return install(
            clone,
            folder,
            listed,
            document,
            choice,
            surroundings,
            wishes,
            state,
            variables,
            progress,
            access,
        )


def _builder(interpreter: Interpreter) -> list[str]:
    """The command that compiles native add-ons, from what the runtime bundles; empty if it bundles none."""
    client = str(interpreter.facts.get("client") or "")
    script = Path(client, "node_modules/node-gyp/bin/node-gyp.js")
    return [str(interpreter.file), str(script)] if client and script.is_file() else []


ECOSYSTEM = NodeEcosystem()
