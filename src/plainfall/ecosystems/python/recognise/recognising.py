"""What Python finds in a clone, in the shape that every language has."""

from __future__ import annotations

import shlex
from collections.abc import Collection, Mapping
from pathlib import Path
from typing import Any

from plainfall.clone.commands import Command
from plainfall.clone.parts import DependencyFile, Extension
from plainfall.clone.walk import Tree
from plainfall.ecosystems.python.frameworks.script import opens_port
from plainfall.ecosystems.python.recognise import survey
from plainfall.ecosystems.python.recognise.console_scripts import (
    console_scripts,
    plugin_commands,
    runnable_modules,
    serves_pages,
)
from plainfall.ecosystems.python.runtime.asks import python_asks, python_of_time, python_with
from plainfall.ecosystems.python.runtime.environment_names import environment_folders
from plainfall.ecosystems.shared.plain_language import PlainRecognising
from plainfall.evidence import Evidence
from plainfall.runtimes.asks import VersionAsk

__all__ = ["PythonRecognising"]


class PythonRecognising(PlainRecognising):
    """Parts with a manifest, a requirements file or a main file."""

    def recognise(self, tree: Tree, folder: str) -> list[Evidence]:
        return survey.recognise_python(tree, folder)

    def asks(self, tree: Tree, folder: str, cache: Path | None) -> list[VersionAsk]:
        above = survey.folder_of_list(tree, folder)
        return [*python_asks(tree, folder), *(python_asks(tree, above) if above != folder else ())]

    def asks_of_time(self, day: str) -> list[VersionAsk]:
        return python_of_time(day)

    def may_serve(self, tree: Tree, folder: str, names: Collection[str]) -> bool:
        return serves_pages(names) or opens_port(tree, folder)

    def environment_folders(self, tree: Tree, folder: str) -> list[str]:
        return environment_folders(tree, folder)

    def asks_for_module(self, module: str) -> list[VersionAsk]:
        return python_with(module)

    def extensions(self, tree: Tree, folder: str) -> tuple[Extension, ...]:
        return survey.needed_modules(tree, folder)

    def dependencies(self, tree: Tree, folder: str) -> DependencyFile | None:
        return survey.dependency_file(tree, folder)

    def commands(self, tree: Tree, folder: str) -> list[Command]:
        return survey.python_commands(tree, folder)

    def programs(self, tree: Tree, folder: str) -> frozenset[str]:
        return frozenset(one.name for one in console_scripts(tree, folder)) | (
            runnable_modules(tree, folder) | plugin_commands(tree, folder)
        )

    def editor_command(self, row: Mapping[str, Any], words: list[str], program: str) -> str:
        if row.get("type") not in ("python", "debugpy"):
            return ""
        if row.get("module"):
            return shlex.join(["python", "-m", str(row["module"]), *words])
        return shlex.join(["python", program, *words]) if program.endswith(".py") else ""
