"""What a Python part is made of: recognised, its dependency list, its commands by convention."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from plainfall.clone.commands import Command, script_file_commands
from plainfall.clone.parts import Addition, DependencyFile, Extension
from plainfall.clone.walk import Tree, is_side
from plainfall.ecosystems.python.lists.discover import (
    IMPORTS,
    Candidate,
    find_lists,
    read_list,
    requirement_lists,
)
from plainfall.ecosystems.python.lists.pins import Listed, Pin, Target
from plainfall.ecosystems.python.lists.requirements import RequirementLine
from plainfall.ecosystems.python.lists.toml import load_table
from plainfall.ecosystems.python.recognise.additions import (
    Library,
    additions_for,
    default_markers,
    library_above,
)
from plainfall.ecosystems.python.recognise.applications import (
    MAIN_GUARD,
    MAINS,
    applications,
    sources,
)
from plainfall.ecosystems.python.recognise.console_scripts import console_scripts, serves_pages
from plainfall.ecosystems.python.recognise.own_programs import canonical, own_programs, project_name
from plainfall.ecosystems.python.runtime.asks import manifest
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["dependency_file", "folder_of_list", "needed_modules", "python_commands", "recognise_python"]

_MANIFESTS = (
    "pyproject.toml",
    "setup.py",
    "setup.cfg",
    "Pipfile",
    "pylock.toml",
    "poetry.lock",
    "uv.lock",
    "pdm.lock",
    "environment.yml",
    "environment.yaml",
)
_OPTIONAL = regex(r"^(?:import|from)\s+(sqlite3|ssl|tkinter|curses|bz2|lzma|readline)\b", re.MULTILINE)
_PACKAGES = {"tkinter": "python3-tk"}


def recognise_python(tree: Tree, folder: str) -> list[Evidence]:
    """Evidence that the folder is a Python part: a manifest, a dependency list, or a main file.

    Folders of documents, tests and examples are sides of a part, not parts; a main file alone makes a
    part only of the clone's own folder, or of the one that was named.
    """
    names = tree.folders.get(folder, [])
    inside = tree.in_named(folder)
    if inside is None or is_side(inside):
        return []
    results = [name for name in _MANIFESTS if name in names]
    if "pyproject.toml" in results and not _is_project(tree, folder):
        results.remove("pyproject.toml")
    results += sorted(requirement_lists(tree, folder))
    mains = [name for name in ("manage.py", *MAINS) if name in names]
    if not results and not mains and not inside and (tree.named or not _lists_anywhere(tree)):
        mains = _other_mains(tree, folder)
    if not results and inside and "manage.py" not in mains:
        return []
    place = f"{folder}/" if folder else ""
    return [Evidence(f"{place}{name}", 1) for name in (*results, *mains)]


def _lists_anywhere(tree: Tree) -> bool:
    """Whether any folder has a manifest or a list: then that is where the programs of the clone are."""
    return any(
        folder.rpartition("/")[2] == "requirements"
        or any(name in _MANIFESTS for name in names)
        or requirement_lists(tree, folder)
        for folder, names in tree.folders.items()
    )


def _other_mains(tree: Tree, folder: str) -> list[str]:
    """Where nothing else says what a folder is: the files at its top that are programs, or where an application of
    a web framework is made, or what the README runs."""
    place = f"{folder}/" if folder else ""
    programs = []
    for name in tree.folders.get(folder, ()):
        if name.endswith(".py") and not name.startswith(("test_", "conftest")):
            try:
                if MAIN_GUARD.search(tree.text(place + name)):
                    programs.append(name)
            except BadInput:
                continue  # a source file that is no text is no program
    if programs:
        return programs
    made = applications(tree, folder, "Flask|FastAPI|Starlette|Quart")[:1]
    return [one.evidence.path[len(place) :] for one in made] or _run_by_readme(tree, folder)


def _run_by_readme(tree: Tree, folder: str) -> list[str]:
    """The first file at a folder's top that a line of its README runs (``python tally.py``)."""
    place = f"{folder}/" if folder else ""
    names = tree.folders.get(folder, ())
    for readme in (name for name in names if name.lower().startswith("readme")):
        try:
            runs = _RUNS.findall(tree.text(place + readme))
        except BadInput:
            continue  # a README that is no text runs nothing
        if found := [name for name in runs if name in names]:
            return found[:1]
    return []


def _is_project(tree: Tree, folder: str) -> bool:
    """A ``pyproject.toml`` that only configures tools makes no part."""
    tables = manifest(tree, folder)
    return bool({"project", "build-system", "dependency-groups"} & set(tables)) or "poetry" in tables.get(
        "tool", {}
    )


def dependency_file(tree: Tree, folder: str) -> DependencyFile | None:
    """The list to install from, and why it and not another that is there."""
    target = Target(default_markers())
    candidates = find_lists(tree, folder)
    library = library_above(tree, folder, target) if not candidates or is_side(folder) else None
    if candidates:
        candidates = _those_that_list_first(tree, candidates, target)
        chosen = candidates[0]
    elif library is not None:
        chosen = library.candidate
    else:
        return _from_imports(tree, folder, target)
    listed = read_list(tree, chosen.path, chosen.kind, target)
    additions, unlisted = _beyond(tree, folder, listed, library, target)
    additions = (*_itself(tree, folder, listed), *additions)
    entries: Sequence[Any] = listed.pins if listed.pins is not None else listed.wishes
    if not candidates:
        reason = f"{folder} has no list of its own: the project above is used in place, with what it lists"
    elif listed.pins is not None:
        reason = f"{chosen.reason}: every package is pinned"
    else:
        reason = f"{chosen.reason}, not complete: versions are resolved"
    first = entries[0].evidence if entries else Evidence(chosen.path)
    others = tuple(candidate.path for candidate in candidates[1:])
    return DependencyFile(
        chosen.path,
        chosen.kind,
        reason,
        len(entries),
        first,
        listed.files,
        others,
        (*(entry.name for entry in entries if entry.name), *names_of(additions)),
        listed.python,
        (listed.extras, listed.groups),
        {
            f"{pin.name} {pin.version}": tuple(file.filename for file in pin.files)
            for pin in listed.pins or ()
            if pin.files
        },
        tuple((entry.name, version) for entry in entries if (version := _pinned(entry))),
        listed.options,
        additions,
        unlisted,
        is_complete=listed.pins is not None,
    )


def _those_that_list_first(tree: Tree, candidates: list[Candidate], target: Target) -> list[Candidate]:
    """The lists of a part, in their order; one without an entry stands behind requirement lists that have some."""
    first = candidates[0]
    listed = read_list(tree, first.path, first.kind, target)
    if listed.pins or listed.wishes or listed.pins is not None:
        return candidates
    for other in candidates[1:]:
        if other.kind == "requirements.txt" and read_list(tree, other.path, other.kind, target).wishes:
            return [other, *(one for one in candidates if one is not other)]
    return candidates


def _itself(tree: Tree, folder: str, listed: Listed) -> tuple[Addition, ...]:
    """The project itself, in place, where a list of requirements or a lock counts that does not name it, and its
    manifest brings programs."""
    if listed.pins is None and listed.kind != "requirements.txt":
        return ()
    if any(line.reference in (".", "./") or line.is_own for line in listed.wishes):
        return ()
    if listed.kind == "uv.lock" or any(
        pin.reference and pin.reference.address in (".", "") for pin in listed.pins or ()
    ):
        return ()
    path = f"{folder}/pyproject.toml" if folder else "pyproject.toml"
    if path in tree and load_table(tree, path, "tool", "poetry").get("package-mode") is False:
        return ()
    scripts = console_scripts(tree, folder)
    return (
        (Addition(folder or ".", scripts[0].evidence, scripts[0].evidence, in_place=True),) if scripts else ()
    )


def _beyond(
    tree: Tree, folder: str, listed: Listed, library: Library | None, target: Target
) -> tuple[tuple[Addition, ...], tuple[Addition, ...]]:
    """What a part that lies in a library needs beyond its list; nothing beyond a complete lock."""
    if library is None or listed.pins is not None:
        return (), ()
    names = {line.name for line in listed.wishes if line.name} | library.names
    additions, unlisted = additions_for(tree, folder, names, library, target)
    own = next(line for line in library.listed.wishes if line.is_own)
    is_listed = any(line.is_own for line in listed.wishes) or library_name(tree, library) in names
    if not is_listed:
        place = Evidence(f"{folder}/" if folder else ".")
        additions = (Addition(library.folder or ".", own.evidence, place, in_place=True), *additions)
    return additions, unlisted


def library_name(tree: Tree, library: Library) -> str:
    """The normalised name of a project."""
    return project_name(tree, library.folder)


def names_of(additions: Iterable[Addition]) -> list[str]:
    """The normalised names of additions that come from an index."""
    return [canonical(re.split(r"[^\w.-]", one.text)[0]) for one in additions if not one.in_place]


def _from_imports(tree: Tree, folder: str, target: Target) -> DependencyFile | None:
    """What a part without any list imports; None if that is nothing."""
    _, unlisted = additions_for(tree, folder, (), None, target)
    if not unlisted:
        return None
    first = unlisted[0].evidence
    return DependencyFile(
        first.path,
        IMPORTS,
        "there is no list: what the sources import",
        len(unlisted),
        first,
        names=tuple(names_of(unlisted)),
        unlisted=unlisted,
        is_from_imports=True,
    )


def _pinned(entry: Pin | RequirementLine) -> str | None:
    """The exact version of an entry that comes from an index."""
    if entry.reference is not None:
        return None
    return entry.version if isinstance(entry, Pin) else entry.pinned


def folder_of_list(tree: Tree, folder: str) -> str:
    """The folder whose list a part is installed from: its own, or that of the project above."""
    library = (
        library_above(tree, folder, Target(default_markers()))
        if folder and not find_lists(tree, folder)
        else None
    )
    return library.folder if library else folder


def python_commands(tree: Tree, folder: str) -> list[Command]:
    """Commands from the manifest's scripts and from script files."""
    commands = list(script_file_commands(tree, folder, "python", (".py",)))
    commands += own_programs(tree, folder, lambda: _serves(tree, folder))
    commands += _main_file(tree, folder)
    return commands


def _main_file(tree: Tree, folder: str) -> Iterator[Command]:
    """The file by whose name people know what to run, where it is a program; a framework's or a document's command
    goes before it."""
    place = f"{folder}/" if folder else ""
    own = project_name(tree, folder).replace("-", "_")
    for name in ("main.py", "app.py", "run.py", "game.py", f"{own}.py"):
        text = tree.text(place + name) if place + name in tree else ""
        main = MAIN_GUARD.search(text)
        if main is not None:
            number = text[: main.start()].count("\n") + 1
            reason = f"{name} is a program"
            yield Command(
                "server", f"python {name}", reason, 8, Evidence(place + name, number), folder, may_fail=True
            )
            return
    yield from _own_main(tree, folder)
    yield from _inner_program(tree, folder)


# What the module of a server does when it is run itself.
_SERVES = regex(
    r"\.run_server\(|\buvicorn\.run\(|\bweb\.run_app\(|\bserve_forever\(|\bIOLoop\.(?:current|instance)\(\)\.start|"
    r"\bapp\.run\(|\bwaitress\b|\bui\.run\(|\.launch\("
)
_INNER = regex(r"(?:src/)?((?:[A-Za-z_]\w*/)+)(__main__|app|server|main|web|wsgi|asgi)\.py")


def _inner_program(tree: Tree, folder: str) -> Iterator[Command]:
    """A module within the part's package that serves when it is run: the one that lies highest, main modules
    first."""
    place = f"{folder}/" if folder else ""
    found = []
    for path, text in sources(tree, folder):
        match = _INNER.fullmatch(path)
        main = MAIN_GUARD.search(text) if match is not None else None
        if match is None or main is None or f"{place}{path.rpartition('/')[0]}/__init__.py" not in tree:
            continue
        beside = path.rpartition("/")[0]
        texts = [text]
        if match.group(2) == "__main__":  # it calls what a module beside it does
            texts += [other for at, other in sources(tree, folder) if at.rpartition("/")[0] == beside]
        if any(_SERVES.search(one) for one in texts):
            module = f"{match.group(1)}{match.group(2)}".removesuffix("/__main__").replace("/", ".")
            number = text[: main.start()].count("\n") + 1
            order = (path.count("/"), match.group(2) != "__main__", path)
            found.append((order, module, Evidence(place + path, number)))
    for _, module, evidence in sorted(found, key=lambda one: one[0])[:1]:
        reason = f"{module} serves when it is run"
        yield Command("server", f"python -m {module}", reason, 8, evidence, folder, may_fail=True)


def _own_main(tree: Tree, folder: str) -> Iterator[Command]:
    """A part that is a package with a main module: it is run from the folder above."""
    path = f"{folder}/__main__.py"
    if not folder or f"{folder}/__init__.py" not in tree or path not in tree:
        return
    text = tree.text(path)
    main = MAIN_GUARD.search(text)
    name = folder.rpartition("/")[2]
    if (
        main is not None and name.isidentifier()
    ):  # another one is no package, whatever a shell would make of it
        port = " --port ${PORT}" if re.search(r"""["']--port["']""", text) else ""
        place = Evidence(path, text[: main.start()].count("\n") + 1)
        reason = f"{name} is a package with a main module"
        yield Command("server", f"cd .. && python -m {name}{port}", reason, 8, place, folder, may_fail=True)


_RUNS = regex(r"(?:^|[\s`$])python[\d.]* (?:\./)?([\w-]+\.py)\b", re.MULTILINE)


def _serves(tree: Tree, folder: str) -> bool:
    """Whether the part's list has what pages are served with."""
    listed = dependency_file(tree, folder)
    return listed is not None and serves_pages(listed.names)


def needed_modules(tree: Tree, folder: str) -> tuple[Extension, ...]:
    """Which of the modules that a build of Python may lack the part's own sources import."""
    place = f"{folder}/" if folder else ""
    results: dict[str, Extension] = {}
    for path in tree.below(folder):
        if path.endswith(".py"):
            try:
                text = tree.text(place + path)
            except BadInput:
                continue  # a source file that is no text imports nothing
            for match in _OPTIONAL.finditer(text):
                line = text[: match.start()].count("\n") + 1
                name = match.group(1)
                evidence = Evidence(place + path, line, match.group(0).strip())
                results.setdefault(name, Extension(name, evidence, name, _PACKAGES.get(name, "")))
    return tuple(results.values())
