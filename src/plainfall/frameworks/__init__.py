"""Frameworks, one small module each: how to recognise one, migrate, seed, serve.

A module here offers ``commands(tree, folder)``, which yields commands if the framework is recognised in the
folder. What needs no framework (process files, scripts, README steps) is the survey's own.
"""

from __future__ import annotations

import importlib
from collections.abc import Iterator

from plainfall.survey.commands import Command
from plainfall.survey.walk import Tree

__all__ = ["framework_commands"]

_MODULES: dict[str, tuple[str, ...]] = {"python": ()}


def framework_commands(tree: Tree, folder: str, language: str) -> Iterator[Command]:
    """The commands that every recognised framework of the language gives for the folder."""
    for name in _MODULES.get(language, ()):
        module = importlib.import_module(f"plainfall.frameworks.{name}")
        yield from module.commands(tree, folder)
