"""Where a part's dependency list is, which one wins where there are several, and why."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from importlib import import_module

from msgspec import Struct
from msgspec.structs import replace

from plainfall.clone.walk import Tree
from plainfall.ecosystems.python.lists.pins import Listed, Pin, Reference, Target
from plainfall.ecosystems.python.lists.reference_lines import reference_of
from plainfall.ecosystems.python.lists.requirements import RequirementLine, read_requirements
from plainfall.ecosystems.python.lists.toml import load_table, load_toml
from plainfall.errors import BadInput
from plainfall.patterns import regex
from plainfall.reading import of_its_form

__all__ = [
    "IMPORTS",
    "LOCK_NAMES",
    "Candidate",
    "find_lists",
    "locked_versions",
    "read_list",
    "requirement_lists",
    "stale_remarks",
]

Reader = Callable[[Tree, str, Target], Listed]


def _reader(module: str, kind: str) -> Reader:
    """The reader of a kind of list; its module is imported when one is read: most parts have one kind."""

    def read(tree: Tree, path: str, target: Target) -> Listed:
        result = import_module(f"plainfall.ecosystems.python.lists.{module}")
        listed: Listed = getattr(result, f"read_{kind}")(tree, path, target)
        return listed

    return read


_LOCKS = {
    "pylock.toml": _reader("pylock", "pylock"),
    "uv.lock": _reader("graphs", "uv_lock"),
    "poetry.lock": _reader("graphs", "poetry_lock"),
    "pdm.lock": _reader("flat", "pdm_lock"),
    "Pipfile.lock": _reader("flat", "pipfile_lock"),
}
LOCK_NAMES = tuple(_LOCKS)
_MANIFESTS = {
    "pyproject.toml": _reader("manifests", "pyproject"),
    "Pipfile": _reader("manifests", "pipfile"),
    "setup.cfg": _reader("manifests", "setup_cfg"),
    "setup.py": _reader("manifests", "setup_py"),
    "environment.yml": _reader("manifests", "environment_yml"),
    "environment.yaml": _reader("manifests", "environment_yml"),
}
IMPORTS = "imports"  # the kind of a part without any list
# Names under which people keep requirement lists, the likeliest first.
_REQUIREMENTS = regex(
    r"^(requirements?|reqs?|deps|dependencies|packages)([-_.][\w.-]+)?\.(txt|in|pip)$", re.I
)
_MAIN = regex(r"^requirements?\.txt$", re.I)
_OF_ANY_PROGRAM = regex(r"^(deps|dependencies|packages)\b", re.I)
# A requirement, an option, an address or a path; or what an entry goes on with on the next line.
_ENTRY = regex(r"^(-|[\w.-]+\s*(\[[^\]]*\])?\s*([<>=!~;@,]|\\?$)|[./]|\w+(\+\w+)?://)")
_FOR_DEVELOPERS = (
    "dev",
    "develop",
    "development",
    "local",
    "base",
    "common",
    "main",
    "all",
    "prod",
    "production",
)


class Candidate(Struct, frozen=True):
    """An existing list: its path, the kind of file, the reason for or against it."""

    path: str
    kind: str
    reason: str


def locked_versions(tree: Tree, folder: str, target: Target) -> tuple[str, ...]:
    """The exact wishes of the complete lock in a folder, with all its extras and groups; none without a lock."""
    lock = next((one for one in find_lists(tree, folder) if one.kind in _LOCKS), None)
    if lock is None:
        return ()
    try:
        offered = read_list(tree, lock.path, lock.kind, target)
        wide = replace(target, extras=frozenset(offered.extras), groups=frozenset(offered.groups))
        pins = read_list(tree, lock.path, lock.kind, wide).pins
    except BadInput:
        return ()  # reported where the list is what counts
    return tuple(f"{pin.name}=={pin.version}" for pin in pins or () if pin.reference is None)


def find_lists(tree: Tree, folder: str) -> list[Candidate]:
    """All lists of a part, the one that wins first: a lock before a list, a list before a manifest."""
    place = f"{folder}/" if folder else ""
    names = set(tree.folders.get(folder, ()))
    result = [Candidate(place + name, name, "a complete lock") for name in _locks(tree, place, names)]
    manifests = [
        Candidate(place + name, name, "the manifest's own dependencies")
        for name in _MANIFESTS
        if name in names and _says_something(tree, place + name, name)
    ]
    lists = _without_sources(requirement_lists(tree, folder))
    if manifests:  # one that was left empty says nothing against the manifest
        lists = [name for name in lists if _rows(tree, place + name)]
    result += [Candidate(place + name, "requirements.txt", "the requirement list") for name in lists]
    main = [
        candidate
        for candidate in result
        if candidate.kind in _LOCKS or _MAIN.match(candidate.path[len(place) :])
    ]
    if main or not manifests:
        result += manifests
    else:
        result = manifests + result
    inner = tree.folders.get(f"{place}requirements", ())
    deeper = [name for name in inner if name.endswith((".txt", ".in"))]
    result += [
        Candidate(f"{place}requirements/{name}", "requirements.txt", "in the folder requirements")
        for name in sorted(deeper, key=lambda name: (_likelihood(name), name))
    ]
    return result


def _locks(tree: Tree, place: str, names: set[str]) -> list[str]:
    """The locks, that of the tool which the manifest configures first."""
    results = [name for name in _LOCKS if name in names]
    if len(results) > 1 and "pyproject.toml" in names:
        tools = load_table(tree, f"{place}pyproject.toml", "tool")
        results.sort(key=lambda name: name.split(".")[0] not in tools)
    return results


def requirement_lists(tree: Tree, folder: str) -> list[str]:
    """The names of the requirement lists in a folder."""
    place = f"{folder}/" if folder else ""
    names = tree.folders.get(folder, ())
    return [name for name in names if _REQUIREMENTS.match(name) and _is_list(tree, place + name)]


def _without_sources(names: list[str]) -> list[str]:
    """The lists, the likeliest first; a ``.in`` file only where its output does not exist."""
    results = [name for name in names if not (name.endswith(".in") and f"{name[:-3]}.txt" in names)]
    return sorted(results, key=lambda name: (_MAIN.match(name) is None, _likelihood(name), name))


def _is_list(tree: Tree, path: str) -> bool:
    """Whether a file of such a name may be a list: prose and tables of other programs have the same names."""
    if not _OF_ANY_PROGRAM.match(path.rpartition("/")[2]):
        return True
    return all(_ENTRY.match(row) for row in _rows(tree, path))


def _rows(tree: Tree, path: str) -> list[str]:
    """The lines of a list, without comments and empty ones."""
    try:
        lines = tree.text(path).splitlines()
    except BadInput:
        return ["."]  # reported by the step that reads it
    return [row for line in lines if (row := line.partition("#")[0].strip())]


def _likelihood(name: str) -> int:
    stem = re.sub(r"^requirements?[-_.]?|\.(txt|in|pip)$", "", name.lower())
    return _FOR_DEVELOPERS.index(stem) if stem in _FOR_DEVELOPERS else len(_FOR_DEVELOPERS)


def _says_something(tree: Tree, path: str, name: str) -> bool:
    if name == "pyproject.toml":
        table = load_toml(tree, path)
        older = load_table(tree, path, "tool", "poetry")
        return "project" in table or "dependencies" in older or "dependency-groups" in table
    if name == "setup.cfg":
        return "install_requires" in tree.text(path)
    if name == "setup.py":
        return re.search(r"\bsetup\(", tree.text(path)) is not None
    return True


def read_list(tree: Tree, path: str, kind: str, target: Target) -> Listed:
    """Reads a list of a kind. A requirement list counts as complete if every line is pinned with hashes:
    without them nothing says that it names all that is needed. Raises BadInput."""
    with of_its_form(path, kind):
        return _read_list(tree, path, kind, target)


def _read_list(tree: Tree, path: str, kind: str, target: Target) -> Listed:
    if kind == IMPORTS:
        return Listed(kind, path, (path,), None, ())
    reader = _LOCKS.get(kind) or _MANIFESTS.get(kind)
    if reader:
        listed = reader(tree, path, target)
        wishes = tuple(
            line
            for line in listed.wishes
            if line.requirement is None or target.holds(line.requirement.marker)
        )
        listed = replace(listed, wishes=wishes)
        return replace(listed, remarks=(*listed.remarks, *_unknown_words(listed, target)))
    result = read_requirements(path, tree.text, target.variables, target.hosts)
    value = tuple(
        line for line in result.lines if line.requirement is None or target.holds(line.requirement.marker)
    )
    listed = Listed(
        kind,
        path,
        result.files,
        None,
        value,
        result.constraints,
        result.options,
        result.prereleases,
        withheld=result.withheld,
    )
    listed = replace(listed, remarks=tuple(_unknown_words(listed, target)))
    folder = path.rpartition("/")[0]
    rows = [(line, reference_of(line, folder) if line.reference is not None else None) for line in value]
    if rows and all(line.name and not _lacks(line, reference) for line, reference in rows):
        return replace(listed, pins=_pins(rows))
    if result.require_hashes or any(line.hashes for line in value):
        for line, reference in rows:
            lacks = _lacks(line, reference)
            if lacks:
                raise BadInput(
                    f"{line.evidence.text!r} has no {lacks}, though other lines have hashes",
                    place=line.evidence,
                    remedy="Give every line its version and --hash, or no line a hash.",
                )
    return listed


def _lacks(line: RequirementLine, reference: Reference | None) -> str:
    """What a line lacks to name one archive and no other, "" for nothing."""
    if reference is None and not line.pinned:
        return "exact version"
    return "" if line.hashes or (reference is not None and reference.hashes) else "hash"


def _pins(rows: Sequence[tuple[RequirementLine, Reference | None]]) -> tuple[Pin, ...]:
    pins: dict[str, Pin] = {}
    for line, reference in rows:
        version = line.pinned or ""
        other = pins.get(line.name)
        if other and (other.version != version or other.reference != reference):
            raise BadInput(
                f"{line.name} is pinned to {version or line.reference} here and to "
                f"{other.version or 'another place'} at {other.evidence}",
                place=line.evidence,
                remedy="Take one of the two lines out.",
            )
        pins.setdefault(line.name, Pin(line.name, version, line.evidence, line.hashes, (), reference))
    return tuple(pins.values())


def _unknown_words(listed: Listed, target: Target) -> list[str]:
    remarks = []
    for word, asked, offered in (
        ("extra", target.extras, listed.extras),
        ("group", target.groups, listed.groups),
    ):
        missing = sorted(asked - set(offered))
        if missing:
            known = ", ".join(offered) or "none"
            remarks.append(
                f"{listed.path} has no {word} {', '.join(missing)} (it has: {known}): nothing was installed for it"
            )
    return remarks


def stale_remarks(tree: Tree, listed: Listed, target: Target) -> list[str]:
    """Requirements of the manifest that the lock does not contain, in words with both places."""
    folder = listed.path.rpartition("/")[0]
    path = f"{folder}/pyproject.toml" if folder else "pyproject.toml"
    if listed.pins is None or not (tree.root / path).is_file():
        return []
    wishes = _MANIFESTS["pyproject.toml"](tree, path, replace(target, groups=frozenset())).wishes
    pins: Mapping[str, Pin] = {pin.name: pin for pin in listed.pins}
    remarks = []
    for wish in wishes:
        if wish.requirement is None or not target.holds(wish.requirement.marker):
            continue
        pin = pins.get(wish.name)
        if pin is None:
            remarks.append(f"{listed.path} is stale: {wish.evidence} lists {wish.name}, which it lacks")
        elif pin.version and not wish.requirement.specifier.contains(pin.version, prereleases=True):
            remarks.append(
                f"{listed.path} is stale: {wish.evidence} wants {wish.requirement}, it holds {pin.version}"
            )
    return remarks
