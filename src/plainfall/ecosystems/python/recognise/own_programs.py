"""The programs that a Python project brings itself, as commands of a stage."""

from __future__ import annotations

import re
import shlex
from collections.abc import Callable, Iterator

from plainfall.clone.commands import Command
from plainfall.clone.walk import Tree
from plainfall.ecosystems.python.lists.toml import load_table
from plainfall.ecosystems.python.recognise.applications import server_configuration
from plainfall.ecosystems.python.recognise.console_scripts import ConsoleScript, console_scripts
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["canonical", "own_programs", "own_project", "project_name"]

_STAGES = (
    ("seeds", regex(r"seed")),
    ("migrations", regex(r"migrate|init(ialize)?[-_]?(\w+[-_])?(db|database)")),
    ("server", regex(r"serve(?!r?[-_](init|import|export|fsck|gen|passwd|test))")),
)


def own_programs(tree: Tree, folder: str, serves: Callable[[], bool]) -> Iterator[Command]:
    """Programs that the project brings and whose names tell a stage; and the one of the project's own name, where
    it is made with what serves pages (``serves``): it is tried where nothing says how to start it."""
    scripts = console_scripts(tree, folder)
    for one in scripts:
        stage = next((stage for stage, word in _STAGES if word.search(one.name.lower())), None)
        if stage and _is_here(tree, folder, one):
            line = _called(one, tree, folder)
            reason = f"the project's script {one.name!r}"
            guess = stage in ("migrations", "seeds")
            yield Command(stage, line, reason, 50, one.evidence, folder, may_fail=guess)
    if not scripts:
        return
    if serves():
        own = project_name(tree, folder)
        for one in scripts:
            here = _is_here(tree, folder, one)
            likely = _likely_server(one, own, alone=len(scripts) == 1) if here else 0
            if likely:
                reason = f"the project's own program {one.name!r}, since nothing says how it is started"
                # A module that can be run needs no command, which some builds do not bring.
                module = one.module.removesuffix(".__main__")
                line = f"python -m {module}" if module != one.module else one.name
                line = f"python {shlex.quote(one.file)}" if one.file else line
                yield Command("server", line, reason, likely, one.evidence, folder, may_fail=True)


def _called(script: ConsoleScript, tree: Tree, folder: str) -> str:
    """The command line of a console script whose module is in the part: it works before it is installed, too. One
    that works on a server's configuration file gets that file."""
    if script.file:
        return f"python {shlex.quote(script.file)}"
    configuration = server_configuration(tree, folder)
    argument = f" {configuration.path.rpartition('/')[2]}" if configuration and "db" in script.name else ""
    call = f"import sys; from {script.module} import {script.attribute} as main; sys.exit(main())"
    return f'python -c "{call}"{argument}'


_OTHER_PROGRAM = regex(
    r"init|migrat|seed|populate|import|export|backup|worker|client|test|celery|beat|passwd|user|consumer|manage",
    re.I,
)


def _likely_server(script: ConsoleScript, project: str, *, alone: bool) -> int:
    """The rank of a project's own program as its server, 0 for one that is none: ``NAMEd`` before ``NAME``."""
    name = canonical(script.name)
    if _OTHER_PROGRAM.search(name.removeprefix(project)):
        return 0
    if name in (f"{project}d", f"{project}-web", f"{project}-daemon"):
        return 5
    return 3 if name == project or alone else 0


def _is_here(tree: Tree, folder: str, script: ConsoleScript) -> bool:
    path = script.module.replace(".", "/")
    place = f"{folder}/" if folder else ""
    if script.file:
        return place + script.file in tree
    return any(
        f"{place}{inner}{path}{end}" in tree for inner in ("", "src/") for end in (".py", "/__init__.py")
    )


def canonical(name: str) -> str:
    """A name without what tells no two projects apart (PEP 503)."""
    return re.sub(r"[-_.]+", "-", name).lower()


_NAMES_OF_SETUP = {
    "setup.cfg": regex(r"^name[ \t]{0,9}=[ \t]{0,9}([\w.-]+)", re.MULTILINE),
    "setup.py": regex(r"\bname[ \t]{0,9}=[ \t]{0,9}[\"']([\w.-]+)[\"']"),
}


def _stated_name(tree: Tree, folder: str) -> str:
    """The project's name as ``pyproject.toml`` states it; "" for none."""
    path = f"{folder}/pyproject.toml" if folder else "pyproject.toml"
    stated = ""
    for keys in (("project",), ("tool", "poetry")) if path in tree else ():
        stated = stated or str(load_table(tree, path, *keys).get("name") or "")
    return stated


def _named(tree: Tree, folder: str, module: str) -> Evidence | None:
    """The line of a manifest in the folder that states the module's name as the project's."""
    place = f"{folder}/" if folder else ""
    stated = _stated_name(tree, folder)
    if stated and canonical(stated) == canonical(module):
        return tree.line_of(f"{place}pyproject.toml", stated)
    for name, pattern in _NAMES_OF_SETUP.items():
        try:
            found = pattern.findall(tree.text(place + name)) if place + name in tree else []
        except BadInput:
            continue  # reported where the list is read
        written = next((one for one in found if canonical(one) == canonical(module)), None)
        if written is not None:
            return tree.line_of(place + name, written)
    return None


def own_project(tree: Tree, folder: str, module: str) -> tuple[str, Evidence] | None:
    """The folder of the project that brings a module of its own name: the part's, or one above it; None where none
    does. A package of that name elsewhere is another one."""
    while True:
        place = _named(tree, folder, module)
        if place is not None or not folder:
            return (folder, place) if place is not None else None
        folder = folder.rpartition("/")[0]


def project_name(tree: Tree, folder: str) -> str:
    """The project's name as its manifest states it, else its folder's."""
    return canonical(
        _stated_name(tree, folder) or re.sub(r"-v?\d[\d.]*$", "", (tree.root / folder).resolve().name)
    )
