"""The remedies of every language: modules in the folder ``remedies`` of the language, found by walking it."""

from __future__ import annotations

import importlib
import importlib.util
import pkgutil
from collections.abc import Iterator
from functools import cache
from typing import cast

from plainfall.ecosystems.shape.remedies import LanguageChange, LanguageRemedy, Trouble

__all__ = ["language_changes"]


@cache
def _remedies(language: str) -> tuple[LanguageRemedy, ...]:
    name = f"plainfall.ecosystems.{language}.remedies"
    if importlib.util.find_spec(name) is None:
        return ()
    package = importlib.import_module(name)
    names = [one.name for one in pkgutil.iter_modules(package.__path__)]
    return tuple(cast(LanguageRemedy, importlib.import_module(f"{name}.{one}")) for one in names)


def language_changes(language: str, trouble: Trouble) -> Iterator[LanguageChange]:
    """What the remedies of a language propose, in the order of their names."""
    for remedy in _remedies(language):
        if trouble.kind in remedy.KINDS:
            yield from remedy.propose(trouble)
