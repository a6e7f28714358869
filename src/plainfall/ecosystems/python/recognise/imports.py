"""Packages that a part's sources import, and which list of the project names them.

A module that neither the standard library nor the part itself has comes from a package. Only what surely is
imported counts: an import whose failure is caught, one for the type checker alone, and what tests import do not.
"""

from __future__ import annotations

import ast
import re
import sys
from collections.abc import Iterable, Iterator, Mapping
from functools import cache
from pathlib import Path

from packaging.utils import canonicalize_name

from plainfall.clone.walk import Tree
from plainfall.ecosystems.python.recognise.applications import sources
from plainfall.evidence import Evidence
from plainfall.reading import toml_table

__all__ = ["answers", "imported_modules", "package_of", "well_known_package"]

_FILES = 400  # sources of a part that are read for imports
# Modules of older standard libraries.
_FORMER = frozenset(
    "asynchat asyncore distutils imp smtpd cgi cgitb crypt pipes telnetlib uu xdrlib lib2to3 __builtin__ urllib2 "
    "urlparse ConfigParser StringIO cPickle Queue httplib Tkinter cookielib thread commands".split()
)
_CATCHING = frozenset({"ImportError", "ModuleNotFoundError", "Exception"})
_APPS = frozenset({"INSTALLED_APPS", "MIDDLEWARE"})
# An application made with one of these needs a server that its own imports do not name.
_SERVED_BY = {"fastapi": "uvicorn", "starlette": "uvicorn"}
_SERVERS = frozenset({"uvicorn", "hypercorn", "daphne", "granian"})


@cache
def _other_names() -> Mapping[str, str]:
    path = Path(__file__).parent / "module_names.toml"
    return {module: str(name) for module, name in toml_table(path.read_text("utf-8"), path.name).items()}


@cache
def _well_known() -> frozenset[str]:
    folder = Path(__file__).parent
    own = toml_table((folder / "well_known.toml").read_text("utf-8"), "well_known.toml")
    names = {*own["packages"], *(folder / "known_names.txt").read_text("utf-8").split()}
    names |= set(_other_names().values())
    return frozenset(map(canonicalize_name, names)) - frozenset(own["own_words"])


def well_known_package(module: str) -> str:
    """The package that brings a module, where its name is one of the most used and so nobody's guess; else "".

    >>> well_known_package("yaml"), well_known_package("oslo_log"), well_known_package("utils")
    ('pyyaml', 'oslo-log', '')
    >>> [well_known_package(name) for name in ("google", "google.protobuf", "google.cloud.storage")]
    ['', 'protobuf', 'google-cloud-storage']
    """
    name = package_of(module)
    return name if name in _well_known() else ""


def package_of(module: str) -> str:
    """The normalised name of the package that brings a module: by the shipped table, else its own name."""
    return canonicalize_name(_other_names().get(module, module))


def answers(package: str, module: str) -> bool:
    """Whether a package of that normalised name may bring the module."""
    own = canonicalize_name(module)
    if package in (own, package_of(module)):
        return True
    bare = re.sub(r"^(python-|py|django-)|(-python|-binary|-py)$", "", package)
    return own in (bare, bare.removeprefix("-"), f"django-{bare}")


def imported_modules(tree: Tree, folder: str) -> dict[str, Evidence]:
    """The modules (their first name) that a part's sources import and that are not its own nor the standard
    library's, with the first line that does."""
    place = f"{folder}/" if folder else ""
    own = {re.split(r"[/.]", path)[0] for path in tree.below(folder) if path.endswith(".py")}
    own.add(folder.rpartition("/")[2])
    results: dict[str, Evidence] = {}
    for number, (path, text) in enumerate(sources(tree, folder)):
        if number >= _FILES:
            break
        if path.rpartition("/")[2] == "setup.py":
            continue
        near = _siblings(tree, f"{place}{path}", folder)
        for name, line in _names(text):
            if name not in own | near and name not in sys.stdlib_module_names | _FORMER:
                words = text.splitlines()[line - 1].strip() if line else ""
                results.setdefault(name, Evidence(f"{place}{path}", line, words))
    for maker, server in _SERVED_BY.items():
        if maker in results and not _SERVERS & results.keys():
            results[server] = results[maker]
    return results


def _siblings(tree: Tree, path: str, folder: str) -> set[str]:
    """Names that a file may import from the folders between it and the part's."""
    names: set[str] = set()
    above = path.rpartition("/")[0]
    while True:
        names |= {name[:-3] for name in tree.folders.get(above, ()) if name.endswith(".py")}
        prefix = f"{above}/" if above else ""
        names |= {
            one[len(prefix) :].partition("/")[0]
            for one in tree.folders
            if one.startswith(prefix) and one != above
        }
        if above in (folder, ""):
            return names
        above = above.rpartition("/")[0]


def _names(text: str) -> Iterator[tuple[str, int]]:
    try:
        module = ast.parse(text)
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return  # written for another Python, or not finished: running it will say more
    yield from _in(module.body)


def _in(body: Iterable[ast.stmt]) -> Iterator[tuple[str, int]]:
    for node in body:
        if isinstance(node, ast.Import):
            yield from ((one.name.partition(".")[0], node.lineno) for one in node.names)
        elif isinstance(node, ast.ImportFrom):
            if not node.level and node.module:
                yield node.module.partition(".")[0], node.lineno
        elif isinstance(node, ast.Assign | ast.AugAssign):
            yield from _applications(node)
        elif isinstance(node, ast.Try):
            if not any(_catches(handler) for handler in node.handlers):
                yield from _in(node.body)
            yield from _in([*node.orelse, *node.finalbody])
        elif isinstance(node, ast.If):
            test = ast.unparse(node.test)
            if "TYPE_CHECKING" not in test:
                yield from _in(node.body if "__name__" in test else [])
        elif isinstance(node, ast.With | ast.For | ast.While):
            yield from _in(node.body)


def _catches(handler: ast.ExceptHandler) -> bool:
    caught = ast.unparse(handler.type) if handler.type else "Exception"
    return any(name in caught for name in _CATCHING)


def _applications(node: ast.Assign | ast.AugAssign) -> Iterator[tuple[str, int]]:
    """Packages that a framework's settings name as texts."""
    targets = node.targets if isinstance(node, ast.Assign) else [node.target]
    if not any(isinstance(target, ast.Name) and target.id in _APPS for target in targets):
        return
    for item in getattr(node.value, "elts", ()):
        if isinstance(item, ast.Constant) and isinstance(item.value, str) and item.value:
            yield item.value.partition(".")[0], item.lineno
