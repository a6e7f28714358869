"""Installing what a lock of a Node part says."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from plainfall.ecosystems import Installation, InstallWishes, Progress
from plainfall.ecosystems.node.configuration import read_registries
from plainfall.ecosystems.node.laying import Laid, lay
from plainfall.ecosystems.node.locks.package import LockRead, wanted_here
from plainfall.ecosystems.node.store import Store
from plainfall.runtimes.choice import Choice
from plainfall.surroundings import Surroundings

__all__ = ["install"]


def install(
    clone: Path,
    folder: Path,
    read: LockRead,
    document: Mapping[str, Any],
    choice: Choice,
    surroundings: Surroundings,
    wishes: InstallWishes,
    state: Path,
    progress: Progress,
) -> Installation:
    """Makes ``node_modules`` what the lock says for this machine. Raises what store and laying raise."""
    tables = ("dependencies", "devDependencies", "optionalDependencies")
    asked = {name for table in tables for name in document.get(table) or {}}
    wanted = wanted_here(read.packages, choice.taken.facts, asked)
    folders = list(dict.fromkeys([folder, *(one for one in folder.parents if one.is_relative_to(clone))]))
    registries = read_registries(surroundings, choice.taken, folders)
    store = Store(surroundings.cache, registries, dict(surroundings.variables), folder)
    making = clone / ".plainfall" / "making"
    try:
        laid = lay(folder, [one for one in wanted if not one.bundled], store, making, frozenset(), progress)
    finally:
        store.close()
    remarks = [*read.remarks[:6]]
    left_out = len(read.packages) - len(wanted)
    if left_out:
        remarks.append(f"{left_out} optional packages are for other machines and left out")
    remarks += _code_remarks(laid)
    layout = {_inside(place): names for place, names in laid.layout.items()}
    return Installation(
        laid=tuple(laid.laid),
        kept=tuple(laid.kept),
        taken_out=tuple(laid.taken_out),
        fetched=laid.fetched,
        fetched_bytes=laid.fetched_bytes,
        remarks=tuple(remarks),
        layout=layout,
    )


def _inside(place: str) -> str:
    """A place relative to the part's ``node_modules``."""
    return f"../{place}"


def _code_remarks(laid: Laid) -> list[str]:
    """What would run if packages' own code were allowed to at install."""
    if not laid.wants:
        return []
    rows = []
    for place, wants in sorted(laid.wants.items()):
        name = place.rpartition("node_modules/")[2]
        mark = ", a native add-on without a prebuilt file" if place in laid.native else ""
        rows.append(f"{name} ({'; '.join(f'{key}: {text}' for key, text in wants.items())}{mark})")
    return [f"not run, though they want to run code of their own at install: {', '.join(rows)}"]
