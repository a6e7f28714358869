"""Plain HTTP server frameworks of Node: Express and its kin. The pages are the routes of the application."""

from __future__ import annotations

import re
from collections.abc import Iterator

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import RANK, FrameworkFound, Traits
from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.recognise.dev_servers import listed_at
from plainfall.ecosystems.node.recognise.servers import SERVERS, fans_out, own_files, scripts_of
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["TRAITS", "recognise"]

ORDER = 9

ALONE = True
_TITLES = {
    "express": "Express",
    "fastify": "Fastify",
    "koa": "Koa",
    "@hapi/hapi": "hapi",
    "@hono/node-server": "Hono",
    "restify": "Restify",
    "polka": "Polka",
}
_MADE = regex(
    r"\b(express\(\)|[Ff]astify\(|new Koa\(|Hapi\.server\(|new Hono[<(]|restify\.createServer\(|polka\("
    r"|createServer\(|require\(['\"](?:express|fastify)['\"]\)\()"
)
_LISTENS = regex(r"\.listen\(|\bserve\(|\.start\(\)")
_ROUTE = regex(r"\b(?:app|server|fastify|api)\.(?:get|use)\(\s*['\"`](/[\w/.-]+)['\"`]")
_FILE = regex(r"(?:^|\s)((?:\./)?[\w./-]+?\.[cm]?[jt]s)\b")
# What lies there is no server of the part.
_APART = regex(
    r"(^|/)(bench(marks?)?|perf|tests?|__tests__|spec|examples?|demos?|fixtures?|e2e)/", re.IGNORECASE
)
_RUNNERS = ("tsx", "ts-node-dev", "ts-node")
TRAITS = Traits(tuple(_TITLES.values()), {"express": 3000}, prefixes=("NODE_",))


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part that lists such a framework and makes an application of it."""
    title = next((title for name, title in _TITLES.items() if name in names), "plain HTTP")
    files = dict(_sources(tree, folder))
    made = next((_evidence(path, text, _MADE) for path, text in files.items() if _MADE.search(text)), None)
    if made is None:
        return None
    pages = [route for text in files.values() for route in _ROUTE.findall(text)]
    plain = [route for route in pages if not re.search(r"\.\w+$", route)]
    commands = list(_commands(tree, folder, title, files, names))
    return FrameworkFound(title, made, tuple(commands), pages=tuple(dict.fromkeys(plain))[:6])


def _sources(tree: Tree, folder: str) -> Iterator[tuple[str, str]]:
    """The part's own sources near its top, by path in the clone."""
    place = f"{folder}/" if folder else ""
    for path in own_files(tree, folder):
        if (
            path.count("/") <= 2
            and not _APART.search(path)
            and re.search(r"(?<!\.test)(?<!\.spec)(?<!\.d)\.[cm]?[jt]s$", path)
        ):
            try:
                yield place + path, tree.text(place + path)
            except BadInput:
                continue  # not text: nothing is made there


def _evidence(path: str, text: str, pattern: re.Pattern[str]) -> Evidence:
    match = pattern.search(text)
    start = match.start() if match else 0
    return Evidence(path, text.count("\n", 0, start) + 1, text[start:].partition("\n")[0].strip())


def _commands(
    tree: Tree, folder: str, title: str, files: dict[str, str], names: frozenset[str]
) -> Iterator[Command]:
    """The script that runs a file of the application; without one, the file that listens."""
    place = f"{folder}/" if folder else ""
    scripts = scripts_of(tree, folder)
    served = False
    for position, name in enumerate(one for one in SERVERS if one in scripts):
        named = None if fans_out(scripts[name]) else _FILE.search(scripts[name])
        if named and place + named.group(1).removeprefix("./") in tree:
            reason = f"the {title} server, which the manifest's script {name!r} starts"
            where = listed_at(tree, folder, name)
            yield Command("server", f"npm run {name}", reason, RANK + 8 - position, where, folder)
            served = True
    for path, text in files.items() if not served else ():
        if _MADE.search(text) and _LISTENS.search(text):
            typed = path.endswith("ts")
            runner = next((one for one in _RUNNERS if one in names), None) if typed else "node"
            if runner:
                line = f"{runner} {path.removeprefix(place)}"
                yield Command(
                    "server", line, f"the {title} server", RANK - 5, _evidence(path, text, _LISTENS), folder
                )
