"""No framework: a script or a package with a main module that opens a port."""

from __future__ import annotations

import re

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import FrameworkFound
from plainfall.clone.walk import Tree
from plainfall.evidence import Evidence

__all__ = ["recognise"]

ORDER = 6

ALONE = True
_SERVES = re.compile(
    r"http\.server|socketserver|wsgiref|HTTPServer|serve_forever|\.listen\(|\.run\(|uvicorn|waitress|tornado|aiohttp|"
    r"cherrypy|bottle|start_server|web\.run_app|gradio|\.launch\("
)
_MAIN = re.compile(r"^if\s+__name__\s*==\s*['\"]__main__['\"]", re.MULTILINE)
_NAMES = ("server.py", "app.py", "main.py", "run.py", "web.py")
_RANK = 25


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A main file at the part's top, or a package's ``__main__.py``, whose text opens a port."""
    place = f"{folder}/" if folder else ""
    for name in _NAMES:
        path = place + name
        if path in tree and _SERVES.search(tree.text(path)):
            text = tree.text(path)
            main = _MAIN.search(text) or _SERVES.search(text)
            line = text[: main.start()].count("\n") + 1 if main else 1
            return _found(f"python {name}", f"{name} opens a port", Evidence(path, line), folder)
    for path in tree.below(folder):
        if re.fullmatch(r"\w+/__main__\.py", path) and _serves_somewhere(tree, place, path.partition("/")[0]):
            package = path.partition("/")[0]
            return _found(
                f"python -m {package}", f"{package} has a main module", Evidence(place + path, 1), folder
            )
    return None


def _serves_somewhere(tree: Tree, place: str, package: str) -> bool:
    paths = [path for path in tree.files if path.startswith(f"{place}{package}/") and path.endswith(".py")]
    return any(_SERVES.search(tree.text(path)) for path in paths)


def _found(line: str, reason: str, evidence: Evidence, folder: str) -> FrameworkFound:
    return FrameworkFound("script", evidence, (Command("server", line, reason, _RANK, evidence, folder),))
