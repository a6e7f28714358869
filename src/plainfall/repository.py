"""What Plainfall needs of version control without running it: the repository's folder, the local excludes."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from pathlib import Path

from plainfall.writing import write_whole

__all__ = ["exclude_locally", "repository_folder"]

_NOTE = "# made by plainfall"
_LOCK = threading.Lock()  # parts are worked on at the same time


def repository_folder(clone: Path) -> Path | None:
    """The ``.git`` folder of the clone or of a folder above it, following the link file of a linked work
    tree or submodule (gitrepository-layout(5)); None without a repository."""
    for folder in (clone.resolve(), *clone.resolve().parents):
        place = folder / ".git"
        if place.is_dir():
            return place
        if place.is_file():
            text = place.read_text("utf-8", "replace").strip()
            if text.startswith("gitdir:"):
                return (folder / text.removeprefix("gitdir:").strip()).resolve()
    return None


def exclude_locally(clone: Path, names: Sequence[str]) -> bool:
    """Adds what Plainfall makes to the repository's own exclude file, which is never committed; names
    that stand there stay. Returns whether anything was added (never without a repository)."""
    with _LOCK:
        return _exclude(clone, names)


def _exclude(clone: Path, names: Sequence[str]) -> bool:
    folder = repository_folder(clone)
    if folder is None:
        return False
    common = folder / "commondir"
    if common.is_file():
        folder = (folder / common.read_text("utf-8").strip()).resolve()
    file = folder / "info" / "exclude"
    before = file.read_text("utf-8", "surrogateescape") if file.exists() else ""
    standing = {line.strip() for line in before.splitlines()}
    missing = [name for name in names if name not in standing]
    if not missing:
        return False
    file.parent.mkdir(exist_ok=True)
    joint = "" if not before or before.endswith("\n") else "\n"
    note = "" if _NOTE in standing else f"{_NOTE}\n"
    text = before + joint + note + "".join(f"{name}\n" for name in missing)
    write_whole(file, text.encode("utf-8", "surrogateescape"))
    return True
