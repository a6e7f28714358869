"""What several framework modules look for in Python sources: where an application object is made."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from msgspec import Struct

from plainfall.clone.walk import Tree
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = [
    "MAINS",
    "MAIN_GUARD",
    "Application",
    "applications",
    "other_applications",
    "routes",
    "run_by",
    "server_configuration",
    "set_up_by_hand",
    "sources",
]

_TESTS = regex(
    r"(^|/)(tests?|testing|docs?|examples?|contrib|migrations|alembic|scripts|build/lib)(/|$)|(^|/)(test_|conftest)"
)
_FACTORY = regex(r"^def\s+(create_app|make_app|create_application|get_app)\s*\(", re.MULTILINE)
_CALLED = regex(r"^(app|application)\s*=\s*(?:create_app|make_app|create_application)\(", re.MULTILINE)
# A file of such a name runs a program, where nothing else tells what a folder is.
MAINS = ("app.py", "main.py", "wsgi.py", "asgi.py", "__main__.py", "server.py", "run.py")
_ROUTE = regex(r"^[ \t]*@\w+\.(?:route|get)\([ \t\n]*[\"'](/[^\"'<{]*)[\"']", re.MULTILINE)
_MOST_ROUTES = 6
MAIN_GUARD = regex(r"^if\s+__name__\s*==\s*['\"]__main__['\"]", re.MULTILINE)
_LIKELY = ("wsgi", "asgi", "app", "application", "main", "server", "__init__", "run", "api")


class Application(Struct, frozen=True):
    """An application object: its module and attribute, the folder to put on the module path ("" is the
    part's own), whether the attribute is a factory to call, and the line."""

    module: str
    attribute: str
    root: str
    factory: bool
    evidence: Evidence


def sources(tree: Tree, folder: str) -> Iterator[tuple[str, str]]:
    """Paths (relative to the part) and texts of its Python sources, tests and documents left out."""
    place = f"{folder}/" if folder else ""
    for path in tree.below(folder):
        if path.endswith(".py") and not _TESTS.search(path):
            try:
                yield path, tree.text(place + path)
            except BadInput:
                continue  # a file that is no text holds no application


def applications(tree: Tree, folder: str, makers: str) -> list[Application]:
    """Applications made by one of the named classes (a regular expression), at module level or in a
    factory, the likeliest first: by file name, then by depth."""
    place = f"{folder}/" if folder else ""
    made = re.compile(rf"^(\w+)\s*(?::[^=\n]+)?=\s*(?:\w+\.)?(?:{makers})\(", re.MULTILINE)
    inside = re.compile(rf"\b(?:{makers})\(")
    imports = re.compile(rf"^[ \t]*(?:from|import)\s+(?:{makers.lower()})\b", re.MULTILINE)
    texts = list(sources(tree, folder))
    is_used = any(imports.search(text) for _, text in texts)
    results = []
    for path, text in texts:
        match, factory = made.search(text), False
        if match is None:
            match = next(
                (
                    m
                    for m in _FACTORY.finditer(text)
                    if inside.search(_body(text, m.end())) and not _wants_arguments(text, m.end())
                ),
                None,
            )
            factory = match is not None
        # A call of a maker whose body is not here says nothing of the framework, unless that is imported somewhere.
        match = match or (_CALLED.search(text) if is_used else None)
        if match:
            module, root = _module(tree, place, path)
            line = text[: match.start()].count("\n") + 1
            evidence = Evidence(place + path, line, match.group(0).splitlines()[0].strip())
            results.append(Application(module, match.group(1), root, factory, evidence))
    return sorted(results, key=_merit)


def other_applications(found: Sequence[Application], folder: str) -> tuple[tuple[str, Evidence], ...]:
    """What is said of applications that lie in other folders of the part than the likeliest one, and are none of
    its pieces: each can be onboarded by naming its folder."""
    place = f"{folder}/" if folder else ""
    tops = {_top_of(found[0], place)} if found else set()
    said = []
    for one in found[1:]:
        top, file = _top_of(one, place), one.evidence.path.rpartition("/")[2]
        if top and top not in tops and file in MAINS:
            said.append(
                (f"another application is in {place}{top}: name that folder to onboard it", one.evidence)
            )
            tops.add(top)
    return tuple(said)


def _top_of(application: Application, place: str) -> str:
    """The first folder on the way from the part to an application's file, "" for the part's own."""
    return application.evidence.path.removeprefix(place).rpartition("/")[0].partition("/")[0]


def run_by(tree: Tree, folder: str, application: Application) -> str:
    """The module at a part's top that imports an application from another one and runs it: what else it imports
    may belong to the application. "" for none."""
    name = re.escape(application.attribute)
    imports = re.compile(rf"^from {re.escape(application.module)} import [^\n]*\b{name}\b", re.MULTILINE)
    runs = re.compile(rf"^[ \t]*{name}\.run\(", re.MULTILINE)
    for path, text in sources(tree, folder):
        if "/" not in path and imports.search(text) and runs.search(text):
            return path.removesuffix(".py")
    return ""


def set_up_by_hand(tree: Tree, folder: str, application: Application) -> str:
    """The application's file, relative to the part, where its main guard gives the application to somebody else
    before it runs it: a server that only imports the file would serve half of it. "" elsewhere."""
    place = f"{folder}/" if folder else ""
    text = tree.text(application.evidence.path)
    guard = MAIN_GUARD.search(text)
    name = re.escape(application.attribute)
    body = text[guard.end() :] if guard else ""
    given = re.search(rf"^[ \t]+[\w.]+\([^()\n]*\b{name}\b[^()\n]*\)[ \t]*$", body, re.MULTILINE)
    runs = re.search(rf"^[ \t]+{name}\.run\(", body, re.MULTILINE)
    if given is None or runs is None or given.start() > runs.start():
        return ""
    return application.evidence.path.removeprefix(place)


def _wants_arguments(text: str, position: int) -> bool:
    """Whether a function, whose arguments begin at a position, cannot be called without any."""
    inside = text[position : text.find(")", position)][:2000]
    given = [one.strip() for one in re.sub(r"\[[^\[\]]*\]", "", inside).split(",") if one.strip()]
    return any("=" not in one and not one.startswith("*") for one in given)


def _body(text: str, start: int) -> str:
    """The lines after a position that are indented or blank: the body of a definition at module level."""
    body = []
    for line in text[start:].splitlines()[1:]:
        if line.strip() and not line.startswith((" ", "\t", ")")):
            break
        body.append(line)
    return "\n".join(body)


def _module(tree: Tree, place: str, path: str) -> tuple[str, str]:
    """The module's dotted name and the folder it counts from: the first above it that is no package."""
    pieces = path.removesuffix(".py").split("/")
    start = len(pieces) - 1
    while start > 0 and f"{place}{'/'.join(pieces[:start])}/__init__.py" in tree:
        start -= 1
    # A folder without __init__.py still works as a namespace from the part's own folder, as people write it.
    if start == len(pieces) - 1 and start == 1 and pieces[0] != "src":
        start = 0
    names = pieces[start:]
    if names[-1] == "__init__" and len(names) > 1:
        names = names[:-1]
    return ".".join(names), "/".join(pieces[:start])


def _merit(application: Application) -> tuple[bool, int, int, str]:
    stem = application.module.rpartition(".")[2]
    likely = _LIKELY.index(stem) if stem in _LIKELY else len(_LIKELY)
    return application.factory, likely, application.module.count("."), application.module


def routes(tree: Tree, folder: str) -> tuple[str, ...]:
    """Paths without variables that the part's sources answer to GET requests, by the decorators of web
    frameworks."""
    found = {path: None for _, text in sources(tree, folder) for path in _ROUTE.findall(text)}
    return tuple(sorted(found, key=lambda path: (path.count("/"), len(path), path)))[:_MOST_ROUTES]


def server_configuration(tree: Tree, folder: str) -> Evidence | None:
    """The configuration file at a part's top that describes a server and its application (PasteDeploy), the one for
    development first; None if there is none."""
    place = f"{folder}/" if folder else ""
    names = [name for name in tree.folders.get(folder, ()) if name.endswith(".ini")]
    for name in sorted(names, key=lambda one: (not one.startswith(("dev", "local")), "prod" in one, one)):
        try:
            text = tree.text(place + name)
        except BadInput:
            continue  # not text: it configures nothing
        section = re.search(r"^\[server:main\]", text, re.MULTILINE)
        if section and re.search(r"^\[(app|composite|pipeline):main\]", text, re.MULTILINE):
            return Evidence(place + name, text[: section.start()].count("\n") + 1, section.group(0))
    return None
