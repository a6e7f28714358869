"""What a part needs beyond its list: the library that it is an example of, and packages that its sources import.

An application in a folder of a library (an example, a demo) seldom lists what it needs. It gets the library
itself, in
place, with what the library's manifest lists; and of the packages that it imports those that another list of
the
project names (an extra, a group, a list for developers). An import that no list names is named and not installed:
on a registry anybody may have taken a module's name.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterator, Sequence

from msgspec import Struct
from msgspec.structs import replace
from packaging.requirements import InvalidRequirement, Requirement
from packaging.utils import canonicalize_name

from plainfall.clone.parts import Addition, DependencyFile
from plainfall.clone.prose import bounded_lines
from plainfall.clone.walk import Tree
from plainfall.ecosystems.python.lists.discover import Candidate, find_lists, read_list, requirement_lists
from plainfall.ecosystems.python.lists.pins import Listed, Target
from plainfall.ecosystems.python.lists.requirements import RequirementLine
from plainfall.ecosystems.python.recognise.imports import (
    answers,
    imported_modules,
    package_of,
    well_known_package,
)
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = [
    "Library",
    "additions_for",
    "default_markers",
    "library_above",
    "named_elsewhere",
    "says_to_work_with",
    "well_known",
]

_BUILDABLE = ("pyproject.toml", "setup.cfg", "setup.py")
_PIP = regex(r"\bpip3? install ((?:(?!-r|-e|\.)[\w.\[\]<>=~!,'\"-]+ ?)+)")
_TOX = regex(
    r"^[ \t]+(?:[\w.{},-]+:[ \t]+)?([A-Za-z][\w.-]*+(?:\[[\w,-]+\])?[ \t]*+(?:[<>=!~].*)?)$", re.MULTILINE
)
# A release line that classifiers name, or the oldest one that a requirement admits.
_RELEASE_LINE = regex(
    r"(?:Framework :: (Django) ::|['\"](Django) ?>=) ?(\d+(?:\.\d+)?)\b(?! ?::)", re.IGNORECASE
)
# Extras of these names are for work on a project, or hold all that it offers.
_FOR_WORK = regex(
    r"^(all|full|everything|complete|.*(dev|test|doc|lint|check|typing|build|release|bench|ci).*)$",
    re.IGNORECASE,
)


class Library(Struct, frozen=True):
    """A project that can be built, above a part: its folder, its manifest, and what that lists."""

    folder: str
    candidate: Candidate
    listed: Listed

    @property
    def names(self) -> frozenset[str]:
        """The normalised names that its manifest lists."""
        return frozenset(line.name for line in self.listed.wishes if line.name)


def library_above(tree: Tree, folder: str, target: Target) -> Library | None:
    """The nearest project above a folder that can be built and installed; None if there is none."""
    while folder:
        folder = folder.rpartition("/")[0]
        for candidate in find_lists(tree, folder):
            if candidate.kind in _BUILDABLE:
                listed = read_list(tree, candidate.path, candidate.kind, target)
                if any(line.is_own for line in listed.wishes):
                    return Library(folder, candidate, listed)
    return None


def additions_for(
    tree: Tree, folder: str, listed: Collection[str], library: Library | None, target: Target
) -> tuple[tuple[Addition, ...], tuple[Addition, ...]]:
    """The packages that a part imports and that its list (with these normalised names) does not name: those that
    another list of the project names, and those that none does."""
    named, unlisted = [], []
    lines: list[RequirementLine] | None = None
    own = _module_names(tree, library.folder) if library else frozenset()
    taken = set(listed)
    for module, place in imported_modules(tree, folder).items():
        if module in own or any(answers(name, module) for name in taken):
            continue
        if lines is None:
            lines = list(_other_lines(tree, folder, library, target))
        line = next((one for one in lines if answers(one.name, module)), None)
        if line is not None:
            taken.add(line.name)
            named.append(Addition(str(line.requirement), line.evidence, place))
        else:
            known = bool(well_known_package(module))
            unlisted.append(Addition(package_of(module), place, place, is_well_known=known))
            taken.add(package_of(module))
    return tuple(named), tuple(unlisted)


def named_elsewhere(tree: Tree, folder: str, module: str) -> Addition | None:
    """The package that brings a module, from another list of the project than the part's own; None if none has
    it."""
    target = Target(default_markers())
    candidates = find_lists(tree, folder)
    library = library_above(tree, folder, target)
    lines: list[RequirementLine] = []
    for candidate in candidates:
        lines += _every_line(tree, candidate, target)
    lines += _other_lines(tree, folder, library, target)
    line = next((one for one in lines if answers(one.name, module)), None)
    return Addition(str(line.requirement), line.evidence, line.evidence) if line is not None else None


def well_known(tree: Tree, folder: str, module: str) -> Addition | None:
    """The package of a shipped name that brings a module; None if none has it, or the project has a module of that
    name itself."""
    name = well_known_package(module)
    if not name or module in _module_names(tree, folder):
        return None
    place = imported_modules(tree, folder).get(module, Evidence("", 0, module))
    return Addition(name, Evidence("no list; a well-known name"), place, is_well_known=True)


def extra_with(tree: Tree, listed: DependencyFile, addition: Addition) -> str:
    """The smallest extra of a list that names a package and is not for work on the project itself; where the list
    is a lock, to which nothing can be added, also one that is. "" for none."""
    return _offer_with(tree, listed, addition, listed.offered[0], lambda name: {"extras": frozenset({name})})


def group_with(tree: Tree, listed: DependencyFile, addition: Addition) -> str:
    """The same of groups (PEP 735, and those of locks' own kinds)."""
    return _offer_with(tree, listed, addition, listed.offered[1], lambda name: {"groups": frozenset({name})})


def _offer_with(
    tree: Tree,
    listed: DependencyFile,
    addition: Addition,
    names: Sequence[str],
    asked: Callable[[str], dict[str, frozenset[str]]],
) -> str:
    places = (listed.path, *listed.files, *(listed.others if listed.is_complete else ()))
    if addition.in_place or not names or addition.evidence.path not in places:
        return ""
    target = Target(default_markers())
    package = canonicalize_name(re.split(r"[^\w.-]", addition.text)[0])
    results: list[tuple[bool, int, str]] = []
    try:
        base = read_list(tree, listed.path, listed.kind, target)
        for name in names:
            read = read_list(tree, listed.path, listed.kind, replace(target, **asked(name)))
            for_work = _FOR_WORK.search(name) is not None
            if read.pins is not None and base.pins is not None:
                own = {pin.name for pin in read.pins} - {pin.name for pin in base.pins}
                if package in own:
                    results.append((for_work, len(own), name))
            else:
                wishes = [str(line.requirement) for line in read.wishes if line.requirement is not None]
                if addition.text in wishes and not for_work:
                    results.append((for_work, len(wishes), name))
    except BadInput:
        return ""  # reported where the list is read
    return min(results)[2] if results else ""


def says_to_work_with(tree: Tree, folder: str) -> dict[str, Evidence]:
    """The release lines of its framework that the lists of a part's project, or of the one above it, name,
    the newest first: wishes for what is no newer, and the line of each."""
    target = Target(default_markers())
    library = library_above(tree, folder, target)
    for place in dict.fromkeys((folder, library.folder if library else folder)):
        for name in _BUILDABLE:
            path = f"{place}/{name}" if place else name
            lines: dict[tuple[int, ...], tuple[str, Evidence]] = {}
            for number, line in enumerate(bounded_lines(tree.text(path)) if path in tree else (), 1):
                for match in _RELEASE_LINE.finditer(line):
                    version = tuple(int(piece) for piece in match.group(3).split("."))
                    lines[version] = (
                        (match.group(1) or match.group(2)).lower(),
                        Evidence(path, number, line.strip()),
                    )
            if lines:
                return {
                    f"{framework}<{'.'.join(map(str, (*version[:-1], version[-1] + 1)))}": evidence
                    for version, (framework, evidence) in sorted(lines.items(), reverse=True)
                }
    return {}


def default_markers() -> dict[str, str]:
    """The markers of the Python that runs Plainfall, for a look before an interpreter is chosen."""
    from packaging.markers import default_environment

    return {key: str(value) for key, value in default_environment().items()}


def _module_names(tree: Tree, folder: str) -> frozenset[str]:
    """The modules that a project brings: packages and modules at its top or in its folder ``src``."""
    names = set()
    for place in (folder, f"{folder}/src" if folder else "src"):
        prefix = f"{place}/" if place else ""
        names |= {name[:-3] for name in tree.folders.get(place, ()) if name.endswith(".py")}
        for path in tree.folders:
            if path.startswith(prefix) and "__init__.py" in tree.folders[path]:
                names.add(path[len(prefix) :].partition("/")[0])
    return frozenset(names)


def _other_lines(
    tree: Tree, folder: str, library: Library | None, target: Target
) -> Iterator[RequirementLine]:
    """The lines of the project's other lists: extras and groups first, then lists near the part and above it."""
    top = library.folder if library else ""
    if library:
        yield from _every_line(tree, library.candidate, target)
    above = folder
    while True:
        place = f"{above}/" if above else ""
        paths = [f"{place}{name}" for name in sorted(requirement_lists(tree, above))]
        inner = f"{place}requirements"
        paths += [
            f"{inner}/{name}"
            for name in sorted(tree.folders.get(inner, ()))
            if name.endswith((".txt", ".in"))
        ]
        for path in paths:
            yield from _every_line(tree, Candidate(path, "requirements.txt", ""), target)
        if above in (top, ""):
            break
        above = above.rpartition("/")[0]
    yield from _tox_lines(tree, f"{top}/tox.ini" if top else "tox.ini")
    yield from _documented_lines(tree, top)


def _every_line(tree: Tree, candidate: Candidate, target: Target) -> Iterator[RequirementLine]:
    try:
        offered = read_list(tree, candidate.path, candidate.kind, target)
        wide = Target(target.markers, frozenset(offered.extras), frozenset(offered.groups))
        listed = read_list(tree, candidate.path, candidate.kind, wide)
    except BadInput:
        return  # reported where the list is read
    yield from (line for line in listed.wishes if line.requirement is not None and line.reference is None)


def _documented_lines(tree: Tree, folder: str) -> Iterator[RequirementLine]:
    """The packages that the README's own installation commands name."""
    place = f"{folder}/" if folder else ""
    for name in tree.folders.get(folder, ()):
        if not re.match(r"readme\b", name, re.IGNORECASE):
            continue
        for number, line in enumerate(bounded_lines(tree.text(place + name)), 1):
            installs = _PIP.search(line)
            for word in installs.group(1).split() if installs else ():
                try:
                    requirement = Requirement(word.strip("'\"`"))
                except InvalidRequirement:
                    continue  # an option, a path, a word of a sentence
                yield RequirementLine(requirement, Evidence(place + name, number, line.strip()))


def _tox_lines(tree: Tree, path: str) -> Iterator[RequirementLine]:
    if path not in tree:
        return
    for match in _TOX.finditer(tree.text(path)):
        try:
            requirement = Requirement(match.group(1).strip())
        except InvalidRequirement:
            continue  # a command or a setting of another kind
        number = tree.text(path)[: match.start(1)].count("\n") + 1
        if canonicalize_name(requirement.name) != "py":
            yield RequirementLine(requirement, Evidence(path, number, match.group(1).strip()))
