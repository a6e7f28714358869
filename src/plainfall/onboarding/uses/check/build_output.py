"""What a build made: where it lies, how large it is, whether it can be served as it is."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

from msgspec import Struct

from plainfall.onboarding.part.work import Work
from plainfall.server.process import Running, belonging

__all__ = ["Built", "built_since", "left_by_a_server"]

_FOLDERS = (
    "dist", "build", "out", ".output/public", ".output", "_site", "site", "public/build", "storybook-static",
    ".next", "docs/.vitepress/dist", ".vitepress/dist", "output", "public", "www",
)  # fmt: skip
# Frameworks whose dev servers keep in the same folder what they work with.
_SHARED = {"Next.js": ".next", "Nuxt": ".nuxt"}
_DEEPEST = 3


class Built(Struct, frozen=True):
    """The folder (from the part), its files and bytes, and the folder of its first page ("" for none: it is no
    static site)."""

    folder: str
    files: int
    size: int
    page: str = ""


def built_since(folder: Path, began: float) -> Built | None:
    """What was made since then, in the folders that builds write to; the largest one."""
    found: list[Built] = []
    for name in _FOLDERS:
        place = folder / name
        if (
            place.is_symlink()
            or not place.is_dir()
            or any(name.startswith(f"{one.folder}/") for one in found)
        ):
            continue
        files = [*_files(place)]
        if any(when >= began - 1 for _, _, when in files):
            found.append(Built(name, len(files), sum(size for _, size, _ in files), _page(place, folder)))
    return max(found, key=lambda one: (bool(one.page), one.size), default=None)


def _files(place: Path) -> Iterator[tuple[str, int, float]]:
    for above, folders, names in os.walk(place):
        folders[:] = [one for one in folders if one != "node_modules"]
        for name in names:
            path = os.path.join(above, name)
            status = os.lstat(path)
            yield path, status.st_size, status.st_mtime


def _page(place: Path, folder: Path) -> str:
    pages = [path for path, _, _ in _files(place) if os.path.basename(path) == "index.html"]
    inner = [os.path.relpath(os.path.dirname(one), folder) for one in pages]
    inner.sort(key=lambda one: (one.count("/"), one))
    start = os.path.relpath(place, folder).count("/")
    return next((one for one in inner if one.count("/") - start <= _DEEPEST), "")


def left_by_a_server(work: Work) -> str:
    """That the part's dev server runs and works in the folder that the build writes, in words; "" if not."""
    record = work.state.servers.get(work.part.key)
    if not record or not record.pid or not belonging(Running.of_record(record)):
        return ""
    for one in work.part.frameworks:
        if one.name in _SHARED:
            place = _SHARED[one.name]
            return f"the part's dev server runs and keeps its own files in {place}, where the build writes"
    return ""
