"""A plain WSGI application (PEP 3333), served by what the list holds, else by the standard library."""

from __future__ import annotations

import re

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import RANK, FrameworkFound
from plainfall.clone.walk import Tree
from plainfall.ecosystems.python.recognise.applications import sources
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["recognise"]

ORDER = 5

ALONE = True
_CALLABLE = regex(
    r"^def\s+(application|app)\s*\(\s*(?:environ|env)\b|^(application)\s*=|"
    r"^(app)\s*=\s*(?:Bottle|falcon\.App|bottle\.)",
    re.MULTILINE,
)
_STANDARD = (
    'python -c "import os, sys; sys.path.insert(0, os.curdir); '
    "from wsgiref.simple_server import make_server; "
    "from {module} import {name}; "
    "make_server('127.0.0.1', int(os.environ.get('PORT', '8000')), {name}).serve_forever()\""
)


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part with a module at its top that holds a WSGI callable under its usual name."""
    place = f"{folder}/" if folder else ""
    for path, text in sorted(sources(tree, folder), key=lambda item: (item[0] != "wsgi.py", item[0])):
        match = _CALLABLE.search(text)
        if "/" in path or not match or ("start_response" not in text and path != "wsgi.py"):
            continue
        name = next(group for group in match.groups() if group)
        module = path.removesuffix(".py")
        line = text[: match.start()].count("\n") + 1
        evidence = Evidence(place + path, line, match.group(0).strip())
        if "gunicorn" in names:
            command = f"gunicorn {module}:{name} --bind 127.0.0.1:${{PORT:-8000}} --reload"
        elif "waitress" in names:
            command = f"waitress-serve --host 127.0.0.1 --port ${{PORT:-8000}} {module}:{name}"
        else:
            command = _STANDARD.format(module=module, name=name)
        server = Command("server", command, "a WSGI application", RANK, evidence, folder)
        return FrameworkFound("WSGI", evidence, (server,))
    return None
