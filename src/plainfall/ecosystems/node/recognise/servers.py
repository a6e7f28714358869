"""Which folders of a Node clone have a server of their own, and scripts that only start others' servers."""

from __future__ import annotations

from collections.abc import Iterator

from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.runtime.asks import manifest
from plainfall.patterns import regex

__all__ = [
    "SERVERS",
    "fans_out",
    "leaves_servers_to_others",
    "listed_names",
    "own_files",
    "scripts_of",
    "servers_below",
    "serves_here",
    "starts_others",
]

# Scripts that start what a developer wants to see, the likeliest first.
SERVERS = ("dev", "develop", "start:dev", "dev:server", "serve", "start", "server", "start:server")

_FANS_OUT = regex(
    r"(?<![-\w])(concurrently|npm-run-all|run-p|turbo|lerna|nx\s+run-many|wsrun)\b"
    r"|\byarn\s+workspaces?\b|\b(npm|pnpm|yarn)\b[^&|;]*\s(-ws?|-r|-C|--(workspaces?|prefix|recursive|parallel"
    r"|filter|cwd))(?=[\s=]|$)|(^|&&\s*)\(?cd\s+\S+\s*&&|[^&>]&\s+[^&]"
)


def scripts_of(tree: Tree, folder: str) -> dict[str, str]:
    """The manifest's scripts by name."""
    value = manifest(tree, folder).get("scripts")
    return {str(name): str(text) for name, text in value.items()} if isinstance(value, dict) else {}


def listed_names(tree: Tree, folder: str) -> list[str]:
    """The names that a manifest asks for."""
    document = manifest(tree, folder)
    tables = ("dependencies", "devDependencies", "optionalDependencies")
    return [str(name) for table in tables for name in document.get(table) or {}]


def own_files(tree: Tree, folder: str) -> Iterator[str]:
    """Paths of the files below a folder, relative to it, without those of folders with their own manifest."""
    place = f"{folder}/" if folder else ""
    others = tuple(
        f"{one[len(place) :]}/"
        for one in tree.folders
        if one != folder and one.startswith(place) and f"{one}/package.json" in tree
    )
    return (path for path in tree.below(folder) if not path.startswith(others))


def fans_out(text: str) -> bool:
    """Whether a script starts several others, or one in another folder."""
    return _FANS_OUT.search(text) is not None


_CALL = regex(r"(?:npm|pnpm|yarn|bun)(?: run)? ([\w:.-]+)")


def starts_others(tree: Tree, folder: str, line: str) -> bool:
    """Whether a line runs a script of the manifest that only starts the servers below its folder."""
    match = _CALL.fullmatch(line)
    text = scripts_of(tree, folder).get(match.group(1), "") if match else ""
    return fans_out(text) and bool(servers_below(tree, folder))


def leaves_servers_to_others(tree: Tree, folder: str) -> bool:
    """Whether a part starts no server of its own: none of its scripts does, or they start those of others."""
    texts = [text for name, text in scripts_of(tree, folder).items() if name in SERVERS]
    return all(fans_out(text) for text in texts)


def serves_here(tree: Tree, folder: str, owner: str = "") -> bool:
    """Whether a framework's server is recognised in a folder, by what its manifest and its owner's list."""
    from plainfall.ecosystems.frameworks import find_frameworks

    names = frozenset(listed_names(tree, folder) + listed_names(tree, owner))
    result = find_frameworks(tree, folder, "node", names)
    return any(command.stage == "server" for one in result for command in one.commands)


def servers_below(tree: Tree, folder: str) -> list[str]:
    """The folders with a manifest below one (not itself) that have a server of their own."""
    place = f"{folder}/" if folder else ""
    inner = [one for one in tree.folders if one != folder and one.startswith(place)]
    return [one for one in sorted(inner) if f"{one}/package.json" in tree and serves_here(tree, one)]
