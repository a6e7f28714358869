"""An import goes only downwards through the layers, and modules form no circle, however an import is written."""

from __future__ import annotations

import ast
import re
import time
from collections import defaultdict
from pathlib import Path

from plainfall.onboarding.stages.stage import Stage

# Wherever it stands: at the top, in a function, for the type checker alone.
IMPORT = re.compile(r"^\s*from (plainfall[\w.]*) import (\([^)]*\)|[^\n]+)", re.MULTILINE)
SOURCE = Path(__file__).parents[1] / "src/plainfall"
# From the top; packages on one line do not know each other. What stands in no line is the ground floor.
LAYERS = (
    ("cli",),
    ("onboarding",),
    ("survey",),
    ("settings",),
    ("services", "ecosystems"),
    ("clone",),
    ("formats",),
    ("sources",),
    ("runtimes",),
    ("intake",),
    ("packages", "server", "data", "diagnosis"),
)
LEVEL = {name: number for number, line in enumerate(LAYERS) for name in line}
APART = {"standins", "__main__"}  # what the demo ships, and the way in


def modules() -> dict[str, Path]:
    found = {}
    for path in SOURCE.rglob("*.py"):
        name = path.relative_to(SOURCE).with_suffix("").as_posix().replace("/", ".").removesuffix(".__init__")
        if name.split(".")[0] not in APART and name != "__init__":
            found[name] = path
    return found


def imports(known: dict[str, Path]) -> dict[str, set[str]]:
    """Every import of ours in a module, within functions and for the type checker alone, too."""
    found: dict[str, set[str]] = defaultdict(set)
    for name, path in known.items():
        for line in IMPORT.finditer(path.read_text("utf-8")):
            base = line.group(1).removeprefix("plainfall").lstrip(".")
            for word in re.findall(r"(\w+)(?: as \w+)?", line.group(2)):
                inner = f"{base}.{word}" if base else word
                found[name].add(inner if inner in known else base)
        found[name] -= {"", name}
    return found


def level(name: str) -> int:
    return LEVEL.get(name.split(".")[0], len(LAYERS))


def test_imports_go_down_and_in_no_circle() -> None:
    begin = time.monotonic()
    known = modules()
    found = imports(known)
    upward = [
        f"{name} imports {other}"
        for name, others in sorted(found.items())
        for other in sorted(others)
        if other.split(".")[0] not in APART
        and name.split(".")[0] != other.split(".")[0]
        and level(other) <= level(name)
        and not (level(name) == level(other) == len(LAYERS))
    ]
    assert upward == []
    assert circles(found) == []
    assert time.monotonic() - begin < 2


def circles(found: dict[str, set[str]]) -> list[list[str]]:
    """Modules that import each other, directly or through others (Tarjan's components of more than one)."""
    order: dict[str, int] = {}
    low: dict[str, int] = {}
    stack: list[str] = []
    result: list[list[str]] = []

    def visit(name: str) -> None:
        order[name] = low[name] = len(order)
        stack.append(name)
        for other in found.get(name, ()):
            if other not in order:
                visit(other)
                low[name] = min(low[name], low[other])
            elif other in stack:
                low[name] = min(low[name], order[other])
        if low[name] == order[name]:
            group = stack[stack.index(name) :]
            del stack[stack.index(name) :]
            if len(group) > 1:
                result.append(sorted(group))

    for name in list(found):
        if name not in order:
            visit(name)
    return result


def test_the_layers_are_all_exist() -> None:
    folders = {path.name for path in SOURCE.iterdir() if path.is_dir() and path.name != "__pycache__"}
    assert set(LEVEL) == folders - APART


LANGUAGES = {"python", "node", "php", "ruby"}


def test_nothing_outside_the_languages_asks_which_one_it_is() -> None:
    """What differs by language is a field that languages declare."""
    found = []
    for room in ("cli", "onboarding", "survey", "settings", "services", "clone"):
        for path in (SOURCE / room).rglob("*.py"):
            for node in ast.walk(ast.parse(path.read_text())):
                sides = [node.left, *node.comparators] if isinstance(node, ast.Compare) else []
                named = [one for one in sides if isinstance(one, ast.Constant) and one.value in LANGUAGES]
                of_language = [one for one in sides if "language" in ast.unparse(one)]
                found += [f"{path}:{one.lineno}" for one in named if of_language]
                if isinstance(node, ast.Dict):
                    keys = {one.value for one in node.keys if isinstance(one, ast.Constant)}
                    found += [f"{path}:{node.lineno}"] if keys & LANGUAGES and keys <= LANGUAGES else []
    assert found == []


STAGES = {one.value for one in Stage}


def test_a_run_goes_forward_only() -> None:
    """No stage calls another one and nobody writes into the part that it is given: what a stage hands on is in its
    result."""
    found = []
    for path in (SOURCE / "onboarding").rglob("*.py"):
        room = path.relative_to(SOURCE / "onboarding").parts[0]
        for node in ast.walk(ast.parse(path.read_text())):
            targets: list[ast.expr] = [*node.targets] if isinstance(node, ast.Assign) else []
            targets += [node.target] if isinstance(node, ast.AugAssign | ast.AnnAssign) else []
            found += [
                f"{path}:{one.lineno}: writes {ast.unparse(one)}"
                for one in targets
                if re.match(r"(\w+\.)*_?work\.\w", ast.unparse(one))
            ]
            if isinstance(node, ast.ImportFrom) and room in ("stages", "remedies"):
                stage = (node.module or "").removeprefix("plainfall.onboarding.stages.")
                if stage in STAGES and node.module != stage:
                    found.append(f"{path}:{node.lineno}: takes the stage {stage}")
    assert found == []


def test_no_function_of_a_run_is_longer_than_a_page() -> None:
    found = [
        f"{path}: {node.name}"
        for path in (SOURCE / "onboarding").rglob("*.py")
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.FunctionDef) and (node.end_lineno or 0) - node.lineno >= 60
    ]
    assert found == []


ROOMS = {"recognise", "runtime", "lists", "resolve", "install", "clients", "sources", "frameworks"}


def test_a_languages_folder_has_the_same_rooms_in_all_languages() -> None:
    """No module lies beside the rooms but the language's own data, and no language knows another one."""
    folders = [path.parent for path in (SOURCE / "ecosystems").glob("*/language.py")]
    assert len(folders) > 3
    for folder in folders:
        rooms = {path.parent.name for path in folder.glob("*/__init__.py")}
        assert rooms - {"remedies"} == ROOMS, folder.name
        assert {path.name for path in folder.glob("*.py")} == {"__init__.py", "language.py"}
    names = {folder.name for folder in folders}
    for module, others in imports(modules()).items():
        room, _, inner = module.partition(".")
        own = inner.partition(".")[0]
        if room == "ecosystems" and own in {*names, "shared", "shape"}:
            known = {one.split(".")[1] for one in others if one.startswith("ecosystems.")} & names
            assert known <= {own} & names, module


def test_stages_read_the_choices_and_no_wishes() -> None:
    """A run is a function of the clone and its choices: what the person asked for and what failures changed come to
    a stage as ``work.choices`` alone."""
    found = [
        f"{path.name}:{node.lineno}: {ast.unparse(node)}"
        for path in sorted((SOURCE / "onboarding/stages").glob("*.py"))
        for node in ast.walk(ast.parse(path.read_text("utf-8")))
        if isinstance(node, ast.Attribute) and node.attr in ("wishes", "decisions", "decided")
        if ast.unparse(node.value) == "work"
    ]
    assert found == []
