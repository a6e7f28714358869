"""Console scripts that a project's manifest declares: the commands that its own installation brings."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterable, Iterator

from msgspec import Struct

from plainfall.clone.walk import Tree
from plainfall.ecosystems.python.lists.toml import load_table
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["ConsoleScript", "console_scripts", "plugin_commands", "runnable_modules", "serves_pages"]

# What a program that serves pages is made with: a console script of a project that needs none of them is a tool.
_SERVER_PACKAGES = frozenset(
    "aiohttp bottle cherrypy django falcon fastapi flask gunicorn hypercorn litestar pyramid quart sanic starlette "
    "tornado twisted uvicorn waitress werkzeug".split()
)
_LINE = regex(r"([\w.-]+)[ \t]*=[ \t]*([\w.]+)(?::([\w.]+))?")


def serves_pages(names: Iterable[str]) -> bool:
    """Whether packages of these normalised names are what a program that serves pages is made with."""
    return any(name in _SERVER_PACKAGES or name.partition("-")[0] in _SERVER_PACKAGES for name in names)


class ConsoleScript(Struct, frozen=True):
    """A command, the module and attribute that it calls, and where it is declared; ``file`` is that of a script
    which is installed as it is, relative to the project, and has no module."""

    name: str
    module: str
    attribute: str
    evidence: Evidence
    file: str = ""


def console_scripts(tree: Tree, folder: str) -> list[ConsoleScript]:
    """Those of ``pyproject.toml`` (PEP 621, or the older table), ``setup.cfg`` and ``setup.py`` (where it states
    them literally). Raises BadInput for a manifest that cannot be read."""
    place = f"{folder}/" if folder else ""
    results: dict[str, ConsoleScript] = {}
    for name, reader in (("pyproject.toml", _of_pyproject), ("setup.cfg", _of_cfg), ("setup.py", _of_setup)):
        if place + name in tree:
            for script in reader(tree, place + name):
                results.setdefault(script.name, script)
    return list(results.values())


def runnable_modules(tree: Tree, folder: str) -> frozenset[str]:
    """The packages at a project's top, or in its folder ``src``, that ``python -m`` runs."""
    names = set()
    for top in (folder, f"{folder}/src" if folder else "src"):
        place = f"{top}/" if top else ""
        names |= {
            one[len(place) :]
            for one, files in tree.folders.items()
            if "__main__.py" in files and one.startswith(place) and "/" not in one[len(place) :]
        }
    return frozenset(names)


def _of_pyproject(tree: Tree, path: str) -> Iterator[ConsoleScript]:
    for keys in (("project", "scripts"), ("tool", "poetry", "scripts")):
        table = load_table(tree, path, *keys)
        yield from _scripts((f"{name} = {target}" for name, target in table.items()), tree, path)


def _of_cfg(tree: Tree, path: str) -> Iterator[ConsoleScript]:
    import configparser  # rarely needed, and slow to import

    parser = configparser.RawConfigParser(strict=False)
    try:
        parser.read_string(tree.text(path), path)
    except configparser.Error:
        return  # reported where the list is read
    text = parser.get("options.entry_points", "console_scripts", fallback="")
    yield from _scripts(text.splitlines(), tree, path)


def plugin_commands(tree: Tree, folder: str) -> frozenset[str]:
    """The commands that a project adds to another package's program, as "PROGRAM WORD": entry points of a group
    ``PROGRAM.commands``."""
    place = f"{folder}/" if folder else ""
    groups: dict[str, list[str]] = {}
    if f"{place}setup.py" in tree:
        groups |= _groups_of_setup(tree, f"{place}setup.py")
    if f"{place}pyproject.toml" in tree:
        table = load_table(tree, f"{place}pyproject.toml", "project", "entry-points")
        groups |= {name: list(rows) for name, rows in table.items() if isinstance(rows, dict)}
    results = set()
    for group, rows in groups.items():
        program, _, last = group.rpartition(".")
        if last == "commands" and re.fullmatch(r"[\w-]+", program):
            results |= {f"{program} {row.partition('=')[0].strip()}" for row in rows}
    return frozenset(one for one in results if re.fullmatch(r"[\w-]+ [\w-]+", one))


def _of_setup(tree: Tree, path: str) -> Iterator[ConsoleScript]:
    yield from _scripts(_groups_of_setup(tree, path).get("console_scripts", []), tree, path)
    yield from _files_of_setup(tree, path)


def _module_of_setup(tree: Tree, path: str) -> ast.Module:
    try:
        return ast.parse(tree.text(path))
    except (SyntaxError, ValueError, RecursionError, MemoryError, BadInput):
        return ast.Module([], [])  # reported where the list is read


def _files_of_setup(tree: Tree, path: str) -> Iterator[ConsoleScript]:
    """The scripts that a ``setup.py`` installs as they are: names that it states, or puts together of such."""
    module, folder = _module_of_setup(tree, path), path.rpartition("/")[0]
    named = {
        target.id: node.value
        for node in module.body
        if isinstance(node, ast.Assign)
        for target in node.targets
        if isinstance(target, ast.Name)
    }
    for node in ast.walk(module):
        if not isinstance(node, ast.keyword) or node.arg != "scripts":
            continue
        value = named.get(node.value.id) if isinstance(node.value, ast.Name) else node.value
        for element in value.elts if isinstance(value, ast.List | ast.Tuple) else ():
            words = element.args if isinstance(element, ast.Call) else [element]
            pieces = [word.value for word in words if isinstance(word, ast.Constant)]
            file = "/".join(piece for piece in pieces if isinstance(piece, str))
            name = file.rpartition("/")[2]
            if re.fullmatch(r"[\w.-]+", name) and (f"{folder}/{file}" if folder else file) in tree:
                yield ConsoleScript(name, "", "", Evidence(path, element.lineno), file)


def _groups_of_setup(tree: Tree, path: str) -> dict[str, list[str]]:
    """The entry points that a ``setup.py`` states literally, by group."""
    module = _module_of_setup(tree, path)
    results: dict[str, list[str]] = {}
    for node in ast.walk(module):
        if isinstance(node, ast.keyword) and node.arg == "entry_points":
            try:
                stated = ast.literal_eval(node.value)
            except ValueError:
                continue
            if isinstance(stated, str):  # an INI text
                for part in re.split(r"^[ \t]*\[", stated, flags=re.MULTILINE)[1:]:
                    name, _, rows = part.partition("]")
                    results.setdefault(name.strip(), []).extend(rows.splitlines())
            elif isinstance(stated, dict):
                for name, rows in stated.items():
                    lines = rows.splitlines() if isinstance(rows, str) else [str(row) for row in rows or ()]
                    results.setdefault(str(name), []).extend(lines)
    return results


def _scripts(lines: Iterable[str], tree: Tree, path: str) -> Iterator[ConsoleScript]:
    for line in lines:
        match = _LINE.match(line.strip())
        if match is not None and match.group(3):
            name, module, attribute = match.groups()
            yield ConsoleScript(name, module, attribute, tree.line_of(path, name))
