"""FastAPI, Starlette and other applications for an ASGI server."""

from __future__ import annotations

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import RANK, FrameworkFound, Traits
from plainfall.clone.walk import Tree
from plainfall.ecosystems.python.recognise.applications import applications, other_applications, routes

__all__ = ["TRAITS", "recognise"]

ORDER = 3

ALONE = True
TRAITS = Traits(("ASGI",), port_variables=("UVICORN_PORT",))


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part whose sources make an ASGI application, with the server that its list holds."""
    result = applications(tree, folder, "FastAPI|Starlette|Litestar|Quart|BlackSheep")
    if not result:
        return None
    application = result[0]
    target = f"{application.module}:{application.attribute}"
    factory = " --factory" if application.factory else ""
    where = f" --app-dir {application.root}" if application.root else ""
    if "hypercorn" in names and "uvicorn" not in names:
        line = f"hypercorn {target} --bind 127.0.0.1:${{PORT:-8000}} --reload"
    else:
        line = f"uvicorn {target}{factory}{where} --host 127.0.0.1 --port ${{PORT:-8000}} --reload"
    command = Command("server", line, "an ASGI application", RANK, application.evidence, folder)
    pages = ("/", "/docs", "/health", "/openapi.json", *routes(tree, folder))
    notes = other_applications(result, folder)
    return FrameworkFound("ASGI", application.evidence, (command,), pages=pages, notes=notes)
