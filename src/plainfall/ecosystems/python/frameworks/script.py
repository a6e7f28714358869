"""No framework: a script or a package with a main module that opens a port."""

from __future__ import annotations

import re

from msgspec.structs import replace

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import FrameworkFound
from plainfall.clone.walk import Tree
from plainfall.ecosystems.python.recognise.applications import MAIN_GUARD
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["opens_port", "recognise"]

ORDER = 6

ALONE = True
_SERVES = regex(
    r"http\.server|socketserver|wsgiref|HTTPServer|serve_forever|\.listen\(|\.run\(|uvicorn|waitress|tornado|aiohttp|"
    r"cherrypy|bottle|start_server|web\.run_app|gradio|\.launch\("
)
_NAMES = ("server.py", "app.py", "main.py", "run.py", "web.py")
_RANK = 25
# Files at the top of many clones that other tools run.
_NO_PROGRAMS = (
    "test_",
    "conftest",
    "setup",
    "versioneer",
    "ez_setup",
    "noxfile",
    "fabfile",
    "tasks",
    "dodo",
    "hatch_build",
    "pdm_build",
)


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A main file at the part's top, or a package's ``__main__.py``, whose text opens a port."""
    place = f"{folder}/" if folder else ""
    for name in _NAMES:
        path = place + name
        if path in tree and _SERVES.search(tree.text(path)):
            text = tree.text(path)
            main = MAIN_GUARD.search(text) or _SERVES.search(text)
            line = text[: main.start()].count("\n") + 1 if main else 1
            return _found(f"python {name}", f"{name} opens a port", Evidence(path, line), folder)
    programs = [name for name in tree.folders.get(folder, ()) if _is_server(tree, place + name)]
    if len(programs) == 1:
        text = tree.text(place + programs[0])
        main = MAIN_GUARD.search(text)
        number = text[: main.start()].count("\n") + 1 if main else 1
        reason = f"{programs[0]} is the one program here that opens a port"
        return _found(f"python {programs[0]}", reason, Evidence(place + programs[0], number), folder)
    for path in tree.below(folder):
        if re.fullmatch(r"\w+/__main__\.py", path) and _serves_somewhere(tree, place, path.partition("/")[0]):
            package = path.partition("/")[0]
            result = _found(
                f"python -m {package}", f"{package} has a main module", Evidence(place + path, 1), folder
            )
            return replace(result, commands=tuple(replace(one, may_fail=True) for one in result.commands))
    return None


def _is_server(tree: Tree, path: str) -> bool:
    if not path.endswith(".py") or path.rpartition("/")[2].startswith(_NO_PROGRAMS):
        return False
    try:
        text = tree.text(path)
    except BadInput:
        return False  # a source file that is no text is no program
    return MAIN_GUARD.search(text) is not None and _SERVES.search(text) is not None


def opens_port(tree: Tree, folder: str) -> bool:
    """Whether any source of the part opens a port."""
    place = f"{folder}/" if folder else ""
    for path in tree.below(folder):
        if path.endswith(".py"):
            try:
                if _SERVES.search(tree.text(place + path)) or "import socket" in tree.text(place + path):
                    return True
            except BadInput:
                return True  # nobody knows what it does
    return False


def _serves_somewhere(tree: Tree, place: str, package: str) -> bool:
    paths = [path for path in tree.files if path.startswith(f"{place}{package}/") and path.endswith(".py")]
    return any(_SERVES.search(tree.text(path)) for path in paths)


def _found(line: str, reason: str, evidence: Evidence, folder: str) -> FrameworkFound:
    return FrameworkFound("script", evidence, (Command("server", line, reason, _RANK, evidence, folder),))
