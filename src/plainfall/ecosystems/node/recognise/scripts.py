"""The scripts of a manifest: which one serves, builds, generates, migrates, seeds."""

from __future__ import annotations

import shlex
from collections.abc import Iterator

from plainfall.clone.commands import Command
from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.recognise.servers import SERVERS, fans_out, scripts_of, servers_below
from plainfall.ecosystems.node.recognise.workspaces import (
    built_for_others,
    needed_first,
    owner_of,
    workspaces,
)
from plainfall.ecosystems.node.runtime.asks import manifest
from plainfall.patterns import regex

__all__ = ["build_command", "install_commands", "node_commands", "secondary_commands"]

_ROOT_SCRIPTS = ("preinstall", "install", "postinstall", "preprepare", "prepare", "postprepare")
_SEEDS = regex(r"^(db[:-])?seeds?([:-](run|db|dev|data))?$|^(populate|load)([:-]data)?$")
_MIGRATIONS = regex(
    r"^(db[:-])?migrat(e|ions?)([:-](run|up|latest|dev|deploy))?$|^(migrate|schema)[:-](up|latest|run|sync)$"
)
_GENERATES = regex(
    r"^(codegen|generate|gen|prisma[:-]generate|graphql[:-]codegen|build[:-](types|css|assets))$"
)
_ASSETS = ("build:dev", "build-dev", "development", "build", "build:assets", "assets", "prod", "production")
_OF_FRAMEWORK = 51  # a framework's dev server has this rank or more; a main file that listens has less
_SERVES_BUILD = regex(
    r"\b(docusaurus|gatsby|eleventy|remix-serve|react-router-serve)\b(\s+serve\b|(?<=-serve))|\s(preview)\b|"
    r"\b(serve|http-server|sirv|live-server)\b(\s+-\S+)*\s+(\./)?(build|dist|out|public|_site)\b"
)
_IN_PRODUCTION = regex(r"(?:cross-env )?NODE_ENV=production node ((?:\./)?[\w./-]+\.[cm]?js)")
_BUILD_FIRST = regex(r"\b(node\s+(\./)?(dist|build|out|lib)/|serve\s+(-s\s+)?(dist|build))")


def node_commands(tree: Tree, folder: str) -> list[Command]:
    """Commands for the stages from the manifest's scripts. They are run by Plainfall's own script runner,
    which answers to the package managers' names."""
    path = f"{folder}/package.json" if folder else "package.json"
    scripts = scripts_of(tree, folder)
    return [*_commands(tree, folder, path, scripts), *_shared_builds(tree, folder)]


def _shared_builds(tree: Tree, folder: str) -> Iterator[Command]:
    """The builds of workspaces that others import from what a build makes, those that others need first."""
    rank = 900
    for inner in built_for_others(tree, folder):
        place = f"{folder}/{inner}" if folder else inner
        rank -= 1
        line = f"npm --prefix {shlex.quote(inner)} run build"
        why = f"whose result other workspaces import ({inner})"
        yield _command(tree, f"{place}/package.json", folder, "tasks", "build", line, rank, why)


def _commands(tree: Tree, folder: str, path: str, scripts: dict[str, str]) -> Iterator[Command]:
    others = servers_below(tree, folder)
    servers = [name for name in SERVERS if name in scripts and not (others and fans_out(scripts[name]))]
    # What serves a build comes after what builds while one works.
    servers.sort(key=lambda name: _SERVES_BUILD.search(scripts[name]) is not None)
    for position, name in enumerate(servers):
        why = f"which runs {scripts[name][:60]}"
        plain = _IN_PRODUCTION.fullmatch(scripts[name])
        if plain is not None:  # a file that serves in whichever mode it is told: a developer tells none
            line = f"node {plain.group(1)}"
            yield _command(
                tree, path, folder, "server", name, line, 49 - position, f"{why}, without its mode"
            )
        yield _command(tree, path, folder, "server", name, f"npm run {name}", 48 - position, why)
    chosen = scripts.get(servers[0], "") if servers else ""
    if "build" in scripts and _BUILD_FIRST.search(chosen):
        why = f"since {servers[0]!r} runs what it makes"
        yield _command(tree, path, folder, "tasks", "build", "npm run build", 40, why)
    for name in scripts:
        if _MIGRATIONS.match(name):
            yield _command(
                tree,
                path,
                folder,
                "migrations",
                name,
                f"npm run {name}",
                58,
                f"which runs {scripts[name][:60]}",
            )
        elif _SEEDS.match(name):
            yield _command(
                tree, path, folder, "seeds", name, f"npm run {name}", 58, f"which runs {scripts[name][:60]}"
            )
        elif _GENERATES.match(name):
            yield _command(tree, path, folder, "tasks", name, f"npm run {name}", 60, "which generates code")


def install_commands(tree: Tree, folder: str) -> list[Command]:
    """The scripts that an install runs, in order: those of workspaces, then the manifest's own."""
    path = f"{folder}/package.json" if folder else "package.json"
    return list(_install_commands(tree, folder, path, scripts_of(tree, folder)))


def _install_commands(tree: Tree, folder: str, path: str, scripts: dict[str, str]) -> Iterator[Command]:
    owner = owner_of(tree, folder)
    mine = _ROOT_SCRIPTS if owner is None or not owner[1] else ()  # the owner's install runs a workspace's
    rank = 1000
    for inner in needed_first(workspaces(tree.root / folder, manifest(tree, folder))) if mine else ():
        place = f"{folder}/{inner}" if folder else inner
        own = scripts_of(tree, place)
        for name in (one for one in _ROOT_SCRIPTS if one in own):
            rank -= 1
            why = f"which an install runs in the workspace {inner}"
            line = f"npm --prefix {shlex.quote(inner)} run {name}"
            yield _command(tree, f"{place}/package.json", folder, "dependencies", name, line, rank, why)
    for position, name in enumerate(mine):
        if name in scripts:
            line = f"npm run {name}"
            yield _command(
                tree, path, folder, "dependencies", name, line, 90 - position, "which an install runs"
            )


def build_command(tree: Tree, folder: str) -> Command | None:
    """The manifest's build script."""
    path = f"{folder}/package.json" if folder else "package.json"
    if "build" not in scripts_of(tree, folder):
        return None
    return _command(tree, path, folder, "tasks", "build", "npm run build", 0, "asked for by the failure")


def secondary_commands(tree: Tree, folder: str, commands: list[Command]) -> list[Command]:
    """The commands of a part in the folder of another language's part: a framework's dev server counts, any
    other script that might be a server does not; without one the build makes what the other part serves."""
    kept = [one for one in commands if one.stage != "server" or one.rank >= _OF_FRAMEWORK]
    scripts = scripts_of(tree, folder)
    name = next((one for one in _ASSETS if one in scripts), None)
    if name and not any(one.stage == "server" for one in kept):
        path = f"{folder}/package.json" if folder else "package.json"
        why = "whose result the other part in this folder serves"
        kept.append(_command(tree, path, folder, "tasks", name, f"npm run {name}", 40, why))
    return kept


def _command(
    tree: Tree, path: str, folder: str, stage: str, name: str, line: str, rank: int, why: str
) -> Command:
    place = tree.line_of(path, f'"{name}":')
    text = scripts_of(tree, folder).get(name, "") if line == f"npm run {name}" else ""
    return Command(stage, line, f"the manifest's script {name!r}, {why}", rank, place, folder, text)
