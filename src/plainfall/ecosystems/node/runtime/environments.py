"""Node's runtimes and environments (``node_modules``), in the shape that every language has."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

from plainfall.clone.extensions import without_words
from plainfall.clone.parts import PartFound
from plainfall.ecosystems.node.clients import runner
from plainfall.ecosystems.node.lists.discover import folders_to
from plainfall.ecosystems.node.runtime.interpreters import GRAMMAR, interpreter_at, node_interpreters
from plainfall.ecosystems.node.runtime.lines import known_lines
from plainfall.ecosystems.shape import CloneAccess, Debugging, DebugWish, EnvironmentStanding, Progress
from plainfall.ecosystems.shared.linked_runtime import link_runtime
from plainfall.ecosystems.shared.programs import names_folder
from plainfall.errors import NoFittingRuntime, RegistryProblem
from plainfall.runtimes.choice import Choice, choose, named_choice
from plainfall.runtimes.interpreters import Interpreter
from plainfall.surroundings import Surroundings

__all__ = ["NodeEnvironment"]

_FOLDER = "node_modules"


class NodeEnvironment:
    """The runtime finds ``node_modules`` by itself; commands are found by their path."""

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

            def lacking(one: Interpreter) -> str | None:
                return without_words(part.extensions, one)

            result = node_interpreters(surroundings)
            try:
                return choose("Node", part.asks, result, GRAMMAR, lacking, has_long_support)
            except NoFittingRuntime as lacks:
                here = [one for one in result if isinstance(one, Interpreter)]
                fetched = None
                if not offline:
                    fetched = _fetched(part, surroundings, here, progress, lacks)
                if fetched is None:
                    raise
                return fetched
        return named_choice("Node", named, interpreter_at, part.asks, GRAMMAR)

    def standing(self, folder: Path, choice: Choice, access: CloneAccess) -> EnvironmentStanding:
        place = folder / _FOLDER
        if place.is_symlink():
            reason = f"it is a link, to {os.readlink(place)}, and packages would be laid there"
            return EnvironmentStanding("wrong", _FOLDER, reason)
        return EnvironmentStanding("right" if place.is_dir() else "absent", _FOLDER, ours=True)

    def make(self, folder: Path, choice: Choice, prompt: str, making: Path, access: CloneAccess) -> None:
        """The folder only has to be there, and be no link."""
        access.confined.own_folder(folder / _FOLDER)

    def prepare(self, folder: Path, choice: Choice, access: CloneAccess) -> None:
        """The names by which scripts call the runtime and its clients: links and small programs of ours."""
        interpreter = choice.taken
        names = names_folder(folder, access)
        runner.write_names(access.confined, names, _builder(interpreter))
        link_runtime(access, folder, "node", choice)

    def variables(self, folder: Path, choice: Choice, access: CloneAccess) -> dict[str, str]:
        root = access.confined.root
        above = folders_to(root, root / _inner(folder, root))
        interpreter = choice.taken
        names = str(names_folder(folder, access))
        path = os.pathsep.join([names, *(str(one / _FOLDER / ".bin") for one in above)])
        own = {"PATH": path, "NODE": str(interpreter.file), "BROWSER": "none", "FORCE_COLOR": "0"}
        headers = interpreter.file.parent.parent / "include/node/node.h"
        if headers.is_file():
            own["npm_config_nodedir"] = str(interpreter.file.parent.parent)
        return own

    def noting_databases(self, folder: Path, access: CloneAccess, mark: str) -> dict[str, str]:
        """None: its drivers are packages, and each opens files in its own way."""
        return {}

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
        inspect = f"--inspect=127.0.0.1:{wish.port}"
        return Debugging({"NODE_OPTIONS": inspect}, {"NODE_OPTIONS": " "}, attach)


def _inner(folder: Path, root: Path) -> str:
    return Path(os.path.realpath(folder)).relative_to(root).as_posix()


def _builder(interpreter: Interpreter) -> list[str]:
    """The command that compiles native add-ons, from what the runtime bundles; empty if it bundles none."""
    client = str(interpreter.facts.get("client") or "")
    script = Path(client, "node_modules/node-gyp/bin/node-gyp.js")
    return [str(interpreter.file), str(script)] if client and script.is_file() else []


def _fetched(
    part: PartFound,
    surroundings: Surroundings,
    here: Sequence[Interpreter],
    progress: Progress | None,
    lacks: NoFittingRuntime,
) -> Choice | None:
    """A runtime that a registry has, None where it has none that fits. Where the registry cannot be asked, that
    none is here stays the cause: raises ``lacks`` with it."""
    from plainfall.ecosystems.node.runtime.fetched import fetched_runtime

    try:
        return fetched_runtime(part.asks, surroundings, here, progress or (lambda done, whole, unit: None))
    except RegistryProblem as problem:
        lacks.lines = (*lacks.lines, f"none could be fetched either: {problem.cause}")
        raise lacks from problem
