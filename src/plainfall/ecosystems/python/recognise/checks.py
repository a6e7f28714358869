"""Checks of a Python part, by the configuration of their tools and by conventions."""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterator
from typing import Any

from msgspec.structs import replace

from plainfall.clone.checks import CheckFound, CheckTool, CheckWords
from plainfall.clone.walk import Tree
from plainfall.ecosystems.shared.version_files import within
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex
from plainfall.reading import toml_table

__all__ = ["WORDS", "python_checks"]

_CONFIGURED, _GUESSED = 500, 400
_TEST = re.compile(r"(^|/)(test_[^/]+|[^/]+_test|tests)\.py$")
_LISTS = re.compile(
    r"(^|/)(pyproject\.toml|setup\.(py|cfg)|tox\.ini|Pipfile|[\w-]*requirements[\w-]*\.(txt|in))$"
)
_OURS = ".venv,venv,.plainfall,node_modules"  # folders that are none of the project's text
_INI = ("setup.cfg", "tox.ini", "pytest.ini", "mypy.ini", ".mypy.ini", ".flake8")


WORDS = CheckWords(
    tools=(
        CheckTool("end-to-end", "", regex(r"\b(behave|robot)\b(?! *=)")),
        CheckTool("types", "", regex(r"\b(mypy|pyright|basedpyright)\b")),
        CheckTool("lint", "ruff", regex(r"\bruff\b(?! format(?!.*--check))")),
        CheckTool("lint", "", regex(r"\b(flake8|pylint)\b|\b(black|isort)\b.*--check")),
        CheckTool("tests", "pytest", regex(r"\b(pytest|py\.test)\b")),
        CheckTool("tests", "django", regex(r"\bmanage\.py test\b")),
        CheckTool("tests", "unittest", regex(r"-m unittest\b")),
        CheckTool("tests", "", regex(r"\bnose2\b(?! *=)")),
        CheckTool("build", "mkdocs", regex(r"\bmkdocs build\b")),
    ),
    writes=((regex(r"(\bruff\b.*)\s--fix\b"), r"\1"),),
)


def python_checks(tree: Tree, folder: str, names: frozenset[str]) -> Iterator[CheckFound]:
    """The checks that the part's files tell of; ``names`` are those of its packages."""
    for one in _checks(tree, folder, names):
        yield replace(one, brought_by=_brought_by(tree, folder, one.tool)) if one.tool not in names else one


def _brought_by(tree: Tree, folder: str, tool: str) -> str:
    """How a tool that is not in the usual list is installed: the extra, group or list that names it."""
    pattern = re.compile(rf"^\s*{re.escape(tool)}\b", re.IGNORECASE)
    path = within(folder, "pyproject.toml")
    document = _document(tree, path)
    project, tools = document.get("project"), document.get("tool")
    tables = [("--extra", project.get("optional-dependencies") if isinstance(project, dict) else None),
              ("--group", document.get("dependency-groups"))]  # fmt: skip
    poetry = tools.get("poetry") if isinstance(tools, dict) else None
    groups = poetry.get("group") if isinstance(poetry, dict) else None
    if isinstance(groups, dict):
        rows = {
            name: list(one.get("dependencies") or ()) for name, one in groups.items() if isinstance(one, dict)
        }
        tables.append(("--group", rows))
    for option, table in tables:
        for name, rows in table.items() if isinstance(table, dict) else ():
            if isinstance(rows, list) and any(isinstance(row, str) and pattern.match(row) for row in rows):
                return f"{path} has it in {name!r}: plainfall onboard {option} {shlex.quote(str(name))}"
    for file in tree.below(folder):
        is_list = re.search(r"(^|/)([\w-]*requirements[\w-]*|requirements/[\w-]+)\.(txt|in)$", file)
        if is_list and any(pattern.match(line) for line in _text(tree, within(folder, file)).splitlines()):
            return f"{file} names it: plainfall inside -- pip install -r {shlex.quote(file)}"
    return f"No list of the clone names it: plainfall inside -- pip install {tool}" if tool else ""


def _checks(tree: Tree, folder: str, names: frozenset[str]) -> Iterator[CheckFound]:
    yield from _tests(tree, folder, names)
    steps = [path for path in tree.below(folder) if re.match(r"features/(.+/)?steps?/[^/]+\.py$", path)]
    if steps:
        place = Evidence(within(folder, steps[0]), 1)
        yield CheckFound(
            "end-to-end", "behave", "the part has features with steps", _GUESSED, place, folder, "behave"
        )
    for kind, line, tool, table, names_of_files in (
        ("lint", "ruff check", "ruff", "ruff", ("ruff.toml", ".ruff.toml")),
        ("lint", f"flake8 --extend-exclude={_OURS}", "flake8", "flake8", (".flake8",)),
        ("types", "mypy", "mypy", "mypy", ("mypy.ini", ".mypy.ini")),
        ("types", "pyright", "pyright", "pyright", ("pyrightconfig.json",)),
    ):
        where = _configured(tree, folder, table, names_of_files)
        if where is not None:
            words = f"{line} ." if tool == "mypy" and not _mypy_knows_files(tree, folder) else line
            yield CheckFound(kind, words, f"{tool} is configured", _CONFIGURED, where, folder, tool)
    for name in ("mkdocs.yml", "mkdocs.yaml"):
        if within(folder, name) in tree:
            place = Evidence(within(folder, name), 1)
            yield CheckFound(
                "build", "mkdocs build", "the documents' configuration", _GUESSED, place, folder, "mkdocs"
            )


def _tests(tree: Tree, folder: str, names: frozenset[str]) -> Iterator[CheckFound]:
    place: Evidence | None = _configured(tree, folder, "pytest", ("pytest.ini",), "tool:pytest")
    if place is None:
        conftest = next((one for one in ("conftest.py", "tests/conftest.py", "test/conftest.py")
                         if within(folder, one) in tree), "")  # fmt: skip
        place = Evidence(within(folder, conftest), 1) if conftest else None
    files = [path for path in tree.below(folder) if _TEST.search(path)]
    listed = "pytest" in names or any(
        re.search(r"\bpytest\b", _text(tree, path))
        for path in (within(folder, name) for name in tree.folders.get(folder, ()))
        if _LISTS.search(path)
    )
    if place is not None or (files and listed):
        where = place or Evidence(within(folder, files[0]), 1)
        why = "pytest is configured" if place else "the part has test files, and a list names pytest"
        yield CheckFound("tests", "python -m pytest", why, _CONFIGURED, where, folder, "pytest")
    if not files:
        return
    if within(folder, "manage.py") in tree:
        where = Evidence(within(folder, files[0]), 1)
        why = "Django's tests"
        yield CheckFound(
            "tests", "python manage.py test --noinput", why, _CONFIGURED - 50, where, folder, "django"
        )
    for path in files[:50]:
        try:
            text = tree.text(within(folder, path))
        except BadInput:
            continue  # no text: no test
        if re.search(r"^class \w+\(.*\bTestCase\b", text, re.MULTILINE):
            top = path.partition("/")[0] if "/" in path else ""
            is_package = not top or within(folder, f"{top}/__init__.py") in tree
            line = "python -m unittest discover" + ("" if is_package else f" -s {top}")
            where = Evidence(within(folder, path), 1)
            yield CheckFound("tests", line, "test files of unittest", _GUESSED, where, folder, "unittest")
            return


def _configured(
    tree: Tree, folder: str, name: str, files: tuple[str, ...], section: str = ""
) -> Evidence | None:
    """Where a tool is configured: a file of its own, its table of pyproject.toml, its section of an ini file."""
    for file in files:
        if within(folder, file) in tree:
            return Evidence(within(folder, file), 1)
    path = within(folder, "pyproject.toml")
    if isinstance(_tools(tree, path).get(name), dict):
        return tree.line_of(path, f"[tool.{name}")
    for file in _INI:
        path = within(folder, file)
        if path in tree:
            for one in (section, name):
                match = re.search(rf"^\[{re.escape(one)}\]", _text(tree, path), re.MULTILINE) if one else None
                if match is not None:
                    return tree.line_of(path, match.group())
    return None


def _document(tree: Tree, path: str) -> dict[str, Any]:
    if path not in tree:
        return {}
    try:
        return toml_table(tree.text(path), path)
    except BadInput:
        return {}  # reported where the list is read


def _tools(tree: Tree, path: str) -> dict[str, Any]:
    tools = _document(tree, path).get("tool")
    return tools if isinstance(tools, dict) else {}


def _text(tree: Tree, path: str) -> str:
    try:
        return tree.text(path)
    except BadInput:
        return ""


def _mypy_knows_files(tree: Tree, folder: str) -> bool:
    table = _tools(tree, within(folder, "pyproject.toml")).get("mypy")
    if isinstance(table, dict) and {"files", "packages", "modules"} & table.keys():
        return True
    texts = (_text(tree, within(folder, name)) for name in ("mypy.ini", ".mypy.ini", "setup.cfg")
             if within(folder, name) in tree)  # fmt: skip
    return any(re.search(r"^(files|packages|modules)\s*=", text, re.MULTILINE) for text in texts)
