"""PHP's runtimes, and the names by which a part's commands find them, in the shape that every language has."""

from __future__ import annotations

import os
from pathlib import Path

from plainfall.clone.parts import PartFound
from plainfall.ecosystems.php.clients import runner
from plainfall.ecosystems.php.install.places import bin_folder
from plainfall.ecosystems.php.lists.manifests import MANIFEST
from plainfall.ecosystems.php.runtime.interpreters import (
    GRAMMAR,
    extensions_of,
    interpreter_at,
    php_interpreters,
)
from plainfall.ecosystems.php.runtime.platform import ExtensionNeed, lacking_words, system_package
from plainfall.ecosystems.shape import CloneAccess, Debugging, DebugWish, Progress
from plainfall.ecosystems.shared.linked_runtime import LinkedRuntime
from plainfall.ecosystems.shared.programs import names_folder, write_program
from plainfall.errors import BadInput, EnvironmentProblem, NoFittingRuntime
from plainfall.plain_files import plain_text
from plainfall.reading import json_object
from plainfall.runtimes.choice import Choice, choose, named_choice
from plainfall.runtimes.interpreters import Interpreter
from plainfall.surroundings import Surroundings

__all__ = ["PhpEnvironment"]


class PhpEnvironment(LinkedRuntime):
    """Packages lie where the manifest says; the environment is a folder of ours with the runtime's name."""

    NAME = "php"
    write_client_names = staticmethod(runner.write_names)

    def choose_runtime(
        self,
        part: PartFound,
        surroundings: Surroundings,
        named: Path | None,
        progress: Progress | None = None,
        *,
        offline: bool = False,
    ) -> Choice:
        if named is not None:
            return named_choice("PHP", named, interpreter_at, part.asks, GRAMMAR)
        found = php_interpreters(surroundings)
        numbers = {
            one.version: sum(need.fact in extensions_of(one) for need in part.extensions)
            for one in reversed(found)
            if isinstance(one, Interpreter)
        }
        choice = choose(
            "PHP",
            part.asks,
            found,
            GRAMMAR,
            lambda one: None,
            lambda version: numbers.get(version, 0),
            near=True,
        )
        known = extensions_of(choice.taken)
        lacking = [
            ExtensionNeed(one.fact, one.name, one.evidence)
            for one in part.extensions
            if one.fact not in known
        ]
        if lacking:
            lines, packages = lacking_words(lacking, choice.taken.version)
            noun = "an extension" if len(lacking) == 1 else f"{len(lacking)} extensions"
            raise NoFittingRuntime(
                f"PHP {choice.taken.version} lacks {noun} that the clone needs",
                place=lacking[0].evidence,
                lines=tuple(lines),
                remedy=f"On Debian and its kin: sudo apt-get install {packages}; then run the same command again. "
                "Nothing was installed by now.",
            )
        return choice

    def prepare(self, folder: Path, choice: Choice, access: CloneAccess) -> None:
        """The names by which scripts call the runtime and its client, and the router of its own server."""
        router = (Path(__file__).parents[1] / "library" / "router.php").read_text("utf-8")
        write_program(access.confined, names_folder(folder, access) / "router.php", router)
        super().prepare(folder, choice, access)

    def variables(self, folder: Path, choice: Choice, access: CloneAccess) -> dict[str, str]:
        path = [str(names_folder(folder, access)), str(folder / programs_folder(folder))]
        return {"PATH": os.pathsep.join(path), "PHP_BINARY": str(choice.taken.file)}

    def debugging(self, wish: DebugWish) -> Debugging:
        """The extension that speaks to an editor, where it is here; it calls the editor, which listens."""
        interpreter = wish.choice.taken
        if "xdebug" not in extensions_of(interpreter):
            package = system_package("xdebug", interpreter.version)
            raise EnvironmentProblem(
                f"PHP {interpreter.version} is here without the extension that debugs (xdebug)",
                remedy=f"On Debian and its kin: sudo apt-get install {package}; then run the same command again.",
            )
        attach = {
            "name": f"listen for {wish.folder.name}",
            "type": "php",
            "request": "launch",
            "port": wish.port,
            "pathMappings": {str(wish.folder): str(wish.folder)},
        }
        config = f"client_host=127.0.0.1 client_port={wish.port}"
        variables = {"XDEBUG_MODE": "debug", "XDEBUG_CONFIG": config, "XDEBUG_SESSION": "1"}
        return Debugging(variables, {}, attach)


def programs_folder(folder: Path) -> str:
    """The folder of the installed packages' programs, from a part's folder."""
    file = folder / MANIFEST
    try:
        document = json_object(plain_text(file, "utf-8", "replace"), MANIFEST) if file.is_file() else {}
        return bin_folder(document)
    except BadInput:
        return "vendor/bin"  # what is wrong with it is said by the step that installs from it
