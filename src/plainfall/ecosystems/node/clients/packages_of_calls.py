"""Which packages of a workspace a call of a package client means, and in which order they go."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Any

from plainfall.ecosystems.node.clients.calls import Call
from plainfall.ecosystems.node.recognise.workspaces import workspace_file, workspaces
from plainfall.errors import BadInput
from plainfall.patterns import regex
from plainfall.plain_files import plain_bytes
from plainfall.reading import foreign_json

__all__ = ["chosen_packages", "workspace_top"]

_TOP = "."
_FILTER = regex(r"(!?)(\.\.\.)?(\^?)([^.{}][^{}]*?|\.{1,2}(?:/[^{}]*?)?|\{[^{}]*\}|\.)(\^?)(\.\.\.)?$")


def workspace_top(folder: Path) -> Path:
    """The nearest folder, this one or one above, whose manifest or file names workspaces; the folder itself if none
    does."""
    for one in (folder, *folder.parents):
        document = _manifest(one)
        if document.get("workspaces") or workspace_file(one):
            return one
    return folder


def chosen_packages(folder: Path, call: Call) -> list[list[Path]]:
    """The folders of the packages that a call goes to, in stages that follow each other. Raises BadInput for one
    that does not exist, and for manifests that cannot be read."""
    top = workspace_top(folder)
    members: dict[str, Mapping[str, Any]] = {_TOP: _manifest(top), **workspaces(top, _manifest(top))}
    chosen = _selected(members, call)
    needs = {one: _needs(members, one) & set(chosen) for one in chosen}
    stages: list[list[str]] = []
    left = list(chosen)
    while left and call.in_order:
        ready = [one for one in left if not needs[one] & set(left) - {one}] or left  # a circle has no first
        stages.append(ready)
        left = [one for one in left if one not in ready]
    return [[top / one for one in stage] for stage in (stages if call.in_order else [left])]


def _selected(members: Mapping[str, Mapping[str, Any]], call: Call) -> list[str]:
    every = [one for one in members if one != _TOP or call.with_top]
    if not call.select:
        kept = [one for one in every if not call.included or _is_named(members, one, call.included)]
        return [one for one in kept if not _is_named(members, one, call.excluded)]
    results: dict[str, None] = dict.fromkeys(every if all(one.startswith("!") for one in call.select) else [])
    for text in call.select:
        found = _by_filter(members, text)
        if text.startswith("!"):
            results = {one: None for one in results if one not in found}
            continue
        if not found and not call.skips_lacking:
            raise BadInput(f"there is no workspace {text!r}; there are: {', '.join(_names(members))}")
        results |= dict.fromkeys(found)
    if call.with_top:
        results |= {_TOP: None}
    return list(results)


def _by_filter(members: Mapping[str, Mapping[str, Any]], text: str) -> list[str]:
    """The packages that a name, a pattern, or a folder means; with ``...`` those that it needs, or that need it."""
    match = _FILTER.match(text)
    if match is None or "[" in text:
        raise BadInput(
            f"the filter {text!r} is not known here: a name, a pattern, a folder, with ... before or behind"
        )
    _, before, not_before, what, not_behind, behind = match.groups()
    plain = what.strip("{}").removeprefix("./").rstrip("/")
    is_folder = what.startswith((".", "{", "/"))
    found = [
        one
        for one in members
        if (is_folder and one != _TOP and (_is_below(one, plain) or fnmatchcase(one, plain)))
        or (not is_folder and (_is_named(members, one, (plain,)) or (one != _TOP and _is_below(one, plain))))
    ]
    if not before and not behind:
        return found
    more: dict[str, None] = {} if not_before or not_behind else dict.fromkeys(found)
    if behind:
        for one in found:
            more |= dict.fromkeys(_reached(one, lambda name: _needs(members, name)))
    if before:
        for one in found:
            more |= dict.fromkeys(
                _reached(one, lambda name: {two for two in members if name in _needs(members, two)})
            )
    return list(more)


def _reached(start: str, near: Any) -> list[str]:
    """All that a package leads to, without itself."""
    seen: dict[str, None] = {}
    waiting = sorted(near(start))
    while waiting:
        one = waiting.pop()
        if one not in seen and one != start:
            seen[one] = None
            waiting += sorted(near(one))
    return list(seen)


def _is_below(folder: str, place: str) -> bool:
    return place in ("", ".") or folder == place or folder.startswith(f"{place}/")


def _is_named(members: Mapping[str, Mapping[str, Any]], folder: str, patterns: Collection[str]) -> bool:
    name = str(members[folder].get("name", ""))
    return any(fnmatchcase(name, one) or ("/" in one and fnmatchcase(folder, one)) for one in patterns)


def _needs(members: Mapping[str, Mapping[str, Any]], folder: str) -> set[str]:
    """The packages of the workspace that one lists."""
    by_name = {str(one.get("name")): place for place, one in members.items()}
    tables = ("dependencies", "devDependencies", "optionalDependencies", "peerDependencies")
    wished = {str(name) for table in tables for name in (members[folder].get(table) or {})}
    return {by_name[name] for name in wished if name in by_name} - {folder}


def _names(members: Mapping[str, Mapping[str, Any]]) -> Sequence[str]:
    return [str(one.get("name") or place) for place, one in members.items() if place != _TOP]


def _manifest(folder: Path) -> dict[str, Any]:
    file = folder / "package.json"
    if not file.is_file():
        return {}
    document = foreign_json(plain_bytes(file), str(file))
    return document if isinstance(document, dict) else {}
