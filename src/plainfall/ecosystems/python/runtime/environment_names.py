"""The folder of a part's environment, where it is not the usual one."""

from __future__ import annotations

import os
import re
from pathlib import Path

from plainfall.clone.walk import Tree
from plainfall.errors import BadInput
from plainfall.patterns import regex
from plainfall.repository import repository_of

__all__ = ["USUAL", "environment_folders"]

USUAL = ".venv"
_NAME = regex(r"\.?(?:v?env|virtualenv)(?:[-_.\d][\w.-]{0,40})?", re.IGNORECASE)
_MAKES = regex(
    r"(?:-m (?:venv|virtualenv)|\bvirtualenv)(?: +-[\w-]{1,30}(?:[= ]python[\d.]{0,9})?){0,6} +(?:\./)?"
    r"([\w.-]{1,60})/?(?=[\s`]|$)"
)
_IGNORED = regex(r"^/?([\w.-]+)/?$", re.MULTILINE)


def environment_folders(tree: Tree, folder: str) -> list[str]:
    """Names of environments in the part's folder: one that is there and not the clone's own file, else the one that
    its README makes, else the only one that its ignore file names. None where the usual one is there."""
    here = tree.root / folder
    if (here / USUAL).exists():
        return []
    real = Path(os.path.realpath(here))
    names = (one.name for one in real.iterdir() if not one.is_symlink() and (one / "pyvenv.cfg").is_file())
    repository = repository_of(tree.root)
    existing = [
        name
        for name in sorted(names)
        if _NAME.fullmatch(name) and not (repository and repository.is_tracked(real / name))
    ]
    made = [name for name in _named(tree, folder) if name != USUAL and not (here / name).exists()]
    return [*existing, *made[:1]]


def _named(tree: Tree, folder: str) -> list[str]:
    place = f"{folder}/" if folder else ""
    for name in tree.folders.get(folder, ()):
        if name.lower().startswith("readme"):
            made = [found for found in _MAKES.findall(_text(tree, place + name)) if _NAME.fullmatch(found)]
            if made:
                return made
    if f"{place}.gitignore" not in tree:
        return []
    ignored = {one for one in _IGNORED.findall(_text(tree, f"{place}.gitignore")) if _NAME.fullmatch(one)}
    ignored -= {".env", ".envrc", "env.bak", "venv.bak"}
    return sorted(ignored) if len(ignored) == 1 else []


def _text(tree: Tree, path: str) -> str:
    try:
        return tree.text(path)
    except BadInput:
        return ""  # what is no text names nothing
