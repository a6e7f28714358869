"""What a Python part is made of: recognised, its dependency list, its commands by convention."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import Any

from plainfall.clone.commands import Command, script_file_commands
from plainfall.clone.parts import DependencyFile, Extension
from plainfall.clone.walk import Tree, is_side
from plainfall.ecosystems.python.applications import MAINS
from plainfall.ecosystems.python.asks import manifest
from plainfall.ecosystems.python.console_scripts import SERVER_PACKAGES, console_scripts
from plainfall.ecosystems.python.lists.discover import REQUIREMENTS, find_lists, read_list
from plainfall.ecosystems.python.lists.toml import load_table
from plainfall.ecosystems.python.pins import Pin, Target
from plainfall.ecosystems.python.requirements import RequirementLine
from plainfall.errors import BadInput
from plainfall.evidence import Evidence

__all__ = ["dependency_file", "needed_modules", "python_commands", "recognise_python"]

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
_OPTIONAL = re.compile(r"^(?:import|from)\s+(sqlite3|ssl|tkinter|curses|bz2|lzma|readline)\b", re.MULTILINE)
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
    results += sorted(name for name in names if REQUIREMENTS.match(name))
    mains = [name for name in ("manage.py", *MAINS) if name in names]
    if not results and inside and "manage.py" not in mains:
        return []
    place = f"{folder}/" if folder else ""
    return [Evidence(f"{place}{name}", 1) for name in (*results, *mains)]


def _is_project(tree: Tree, folder: str) -> bool:
    """A ``pyproject.toml`` that only configures tools makes no part."""
    tables = manifest(tree, folder)
    return bool({"project", "build-system", "dependency-groups"} & set(tables)) or "poetry" in tables.get(
        "tool", {}
    )


def dependency_file(tree: Tree, folder: str) -> DependencyFile | None:
    """The list to install from, and why it and not another that is there."""
    candidates = find_lists(tree, folder)
    if not candidates:
        return None
    chosen = candidates[0]
    listed = read_list(tree, chosen.path, chosen.kind, Target(_here()))
    entries: Sequence[Any] = listed.pins if listed.pins is not None else listed.wishes
    if listed.pins is not None:
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
        tuple(entry.name for entry in entries if entry.name),
        listed.python,
        (listed.extras, listed.groups),
        {
            f"{pin.name} {pin.version}": tuple(file.filename for file in pin.files)
            for pin in listed.pins or ()
            if pin.files
        },
        tuple((entry.name, version) for entry in entries if (version := _pinned(entry))),
        listed.options,
    )


def _pinned(entry: Pin | RequirementLine) -> str | None:
    """The exact version of an entry that comes from an index."""
    if entry.reference is not None:
        return None
    return entry.version if isinstance(entry, Pin) else entry.pinned


def _here() -> dict[str, str]:
    """The markers of the Python that runs Plainfall, for a count before an interpreter is chosen."""
    from packaging.markers import default_environment

    return {key: str(value) for key, value in default_environment().items()}


def python_commands(tree: Tree, folder: str) -> list[Command]:
    """Commands from the manifest's scripts and from script files."""
    commands = list(script_file_commands(tree, folder, "python", (".py",)))
    commands += _project_scripts(tree, folder)
    return commands


_STAGES = (("seeds", "seed"), ("migrations", "migrate"), ("server", "serve"))


def _project_scripts(tree: Tree, folder: str) -> Iterator[Command]:
    """Console scripts whose names tell a stage; and the one of the project's own name, where it is made with what
    serves pages: it is tried where nothing says how to start it."""
    scripts = console_scripts(tree, folder)
    for one in scripts:
        stage = next((stage for stage, word in _STAGES if word in one.name.lower()), None)
        if stage and _module_is_here(tree, folder, one.module):
            call = f"import sys; from {one.module} import {one.attribute} as main; sys.exit(main())"
            line = f'python -c "{call}"'
            yield Command(stage, line, f"the project's script {one.name!r}", 50, one.evidence, folder)
    if not scripts:
        return
    listed = dependency_file(tree, folder)
    if listed is not None and SERVER_PACKAGES & set(listed.names):
        own = _project_name(tree, folder)
        for one in scripts:
            if canonical(one.name) == own or len(scripts) == 1:
                reason = f"the project's own program {one.name!r}, since nothing says how it is started"
                yield Command("server", one.name, reason, 3, one.evidence, folder)


def canonical(name: str) -> str:
    """A name without what tells no two projects apart (PEP 503)."""
    return re.sub(r"[-_.]+", "-", name).lower()


def _project_name(tree: Tree, folder: str) -> str:
    """The project's name as its manifest states it, else its folder's."""
    path = f"{folder}/pyproject.toml" if folder else "pyproject.toml"
    stated = ""
    for keys in (("project",), ("tool", "poetry")) if path in tree else ():
        stated = stated or str(load_table(tree, path, *keys).get("name") or "")
    return canonical(stated or re.sub(r"-v?\d[\d.]*$", "", (tree.root / folder).resolve().name))


def _module_is_here(tree: Tree, folder: str, module: str) -> bool:
    path = module.replace(".", "/")
    place = f"{folder}/" if folder else ""
    return f"{place}{path}.py" in tree or f"{place}{path}/__init__.py" in tree


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
