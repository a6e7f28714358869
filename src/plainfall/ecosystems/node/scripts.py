"""The scripts of a manifest: which one serves, builds, generates, migrates, seeds."""

from __future__ import annotations

import re
from collections.abc import Iterator

from plainfall.ecosystems.node.asks import manifest
from plainfall.survey.commands import Command
from plainfall.survey.walk import Tree

__all__ = ["node_commands"]

_SERVERS = ("dev", "develop", "start:dev", "serve", "start")
_ROOT_SCRIPTS = ("preinstall", "install", "postinstall", "preprepare", "prepare", "postprepare")
_SEEDS = re.compile(r"^(db[:-])?seeds?([:-](run|db|dev|data))?$|^(populate|load)([:-]data)?$")
_MIGRATIONS = re.compile(
    r"^(db[:-])?migrat(e|ions?)([:-](run|up|latest|dev|deploy))?$|^(migrate|schema)[:-](up|latest|run|sync)$"
)
_GENERATES = re.compile(
    r"^(codegen|generate|gen|prisma[:-]generate|graphql[:-]codegen|build[:-](types|css|assets))$"
)
_BUILD_FIRST = re.compile(r"\b(node\s+(\./)?(dist|build|out|lib)/|serve\s+(-s\s+)?(dist|build))")
# How a dev server takes its host and port where the variable PORT does not reach it.
_LOCAL = " -- --host 127.0.0.1 --port ${PORT:-"
_PORT_WORDS = (
    (re.compile(r"(^|\s|/)vite(\s+(dev|serve)?\b|$)"), f"{_LOCAL}5173}} --strictPort"),
    (re.compile(r"(^|\s)ng\s+serve\b"), f"{_LOCAL}4200}}"),
    (re.compile(r"(^|\s)vue-cli-service\s+serve\b"), f"{_LOCAL}8080}}"),
    (re.compile(r"(^|\s)next\s+(dev|start)\b"), " -- -H 127.0.0.1 -p ${PORT:-3000}"),
    (re.compile(r"(^|\s)(nuxt|nuxi)\s+dev\b"), f"{_LOCAL}3000}}"),
    (re.compile(r"(^|\s)astro\s+dev\b"), f"{_LOCAL}4321}}"),
    (re.compile(r"(^|\s)webpack(-dev-server|\s+serve)\b"), f"{_LOCAL}8080}}"),
)  # fmt: skip


def node_commands(tree: Tree, folder: str) -> list[Command]:
    """Commands for the stages from the manifest's scripts. They are run by Plainfall's own script runner,
    which answers to the package managers' names."""
    path = f"{folder}/package.json" if folder else "package.json"
    held = manifest(tree, folder).get("scripts")
    scripts = {str(k): str(v) for k, v in held.items()} if isinstance(held, dict) else {}
    return list(_commands(tree, folder, path, scripts))


def _commands(tree: Tree, folder: str, path: str, scripts: dict[str, str]) -> Iterator[Command]:
    for position, name in enumerate(_ROOT_SCRIPTS):
        if name in scripts:
            line = f"npm run {name}"
            yield _command(
                tree, path, folder, "dependencies", name, line, 90 - position, "which an install runs"
            )
    servers = [name for name in _SERVERS if name in scripts]
    for position, name in enumerate(servers):
        words = next((words for pattern, words in _PORT_WORDS if pattern.search(scripts[name])), "")
        literal = re.search(r"(--port[= ]|-p[= ])\d+", scripts[name])
        yield _command(
            tree, path, folder, "server", name, f"npm run {name}{'' if literal and not words else words}",
            58 - position, f"which runs {scripts[name][:60]}",
        )  # fmt: skip
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
                50,
                f"which runs {scripts[name][:60]}",
            )
        elif _SEEDS.match(name):
            yield _command(
                tree, path, folder, "seeds", name, f"npm run {name}", 50, f"which runs {scripts[name][:60]}"
            )
        elif _GENERATES.match(name):
            yield _command(tree, path, folder, "tasks", name, f"npm run {name}", 60, "which generates code")
    if not servers:
        for name in ("server.js", "index.js", "app.js", "main.js", "src/server.js", "src/index.js"):
            inner = f"{folder}/{name}" if folder else name
            if inner in tree and re.search(r"\.listen\(|createServer\(", tree.text(inner)):
                place = tree.line_of(inner, "listen(")
                yield Command("server", f"node {name}", "a main file that listens", 40, place, folder)


def _command(
    tree: Tree, path: str, folder: str, stage: str, name: str, line: str, rank: int, why: str
) -> Command:
    place = tree.line_of(path, f'"{name}":')
    return Command(stage, line, f"the manifest's script {name!r}, {why}", rank, place, folder)
