"""Manifests, which list requirements and lock nothing: ``pyproject.toml``, ``setup.cfg``, ``setup.py``
(read, never run), ``Pipfile``, ``environment.yml``."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterable, Mapping
from typing import Any

from packaging.requirements import InvalidRequirement, Requirement

from plainfall.clone.walk import Tree, is_side
from plainfall.ecosystems.python.lists.pins import Listed, Target
from plainfall.ecosystems.python.lists.requirements import RequirementLine
from plainfall.ecosystems.python.lists.toml import load_toml
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex
from plainfall.reading import yaml_value

__all__ = [
    "read_environment_yml",
    "read_pipfile",
    "read_pyproject",
    "read_setup_cfg",
    "read_setup_py",
    "requirement_at",
]

_DEEPEST = 20  # expressions within each other
_REMEDY = "Write it as in: name>=1.2 (see PEP 508 for names and markers)."


def requirement_at(text: str, place: Evidence) -> RequirementLine:
    """A requirement with its place. Raises BadInput."""
    try:
        requirement = Requirement(text)
    except InvalidRequirement as error:
        reason = str(error).splitlines()[0]
        raise BadInput(f"{text!r} is no requirement: {reason}", place=place, remedy=_REMEDY) from error
    return RequirementLine(requirement, Evidence(place.path, place.line, text), reference=requirement.url)


def _all(texts: Iterable[str], tree: Tree, path: str) -> list[RequirementLine]:
    return [requirement_at(text, tree.line_of(path, text)) for text in texts]


def read_pyproject(tree: Tree, path: str, target: Target) -> Listed:
    """``[project]`` dependencies, the wanted extras and ``[dependency-groups]`` (PEP 621, PEP 735: group
    ``dev`` if none is named), or the older ``[tool.poetry]`` tables; the project itself is added, to be
    used in place, if it can be built."""
    table = load_toml(tree, path)
    project = table.get("project", {})
    extras = project.get("optional-dependencies", {})
    groups = table.get("dependency-groups", {})
    wishes = _all(project.get("dependencies", []), tree, path)
    for extra in sorted(target.extras & set(extras)):
        wishes += _all(_texts(extras[extra]), tree, path)
    for group in sorted((target.groups or frozenset({"dev"})) & set(groups)):
        wishes += _all(_group(groups, group, path, ()), tree, path)
    older = table.get("tool", {}).get("poetry", {})
    if not project.get("dependencies") and "dependencies" in older:
        wishes += _poetry_wishes(older, tree, path)
    name = project.get("name") or older.get("name")
    brings = project.get("scripts") or older.get("scripts") or older.get("packages")
    if "build-system" in table and name and (brings or _importable(tree, path, str(name))):
        wishes.append(_own(tree.line_of(path, "name")))
    return Listed(
        "pyproject.toml", path, (path,), None, tuple(wishes), extras=tuple(extras), groups=tuple(groups)
    )


def _own(place: Evidence) -> RequirementLine:
    """The project itself, used in place."""
    return RequirementLine(None, place, editable=True, reference=".", is_own=True)


def _importable(tree: Tree, path: str, name: str) -> bool:
    """Whether the folder holds a package of the project's name, or just one package, whatever its name: only then
    building it makes sense."""
    folder = path.rpartition("/")[0]
    place = f"{folder}/" if folder else ""
    stem = name.replace("-", "_").lower()
    packages = [
        one.parent.name
        for inner in ("", "src/")
        for one in (tree.root / f"{place}{inner}").glob("*/__init__.py")
        if not is_side(one.parent.name)
    ]
    return len(packages) == 1 or any(
        (tree.root / f"{place}{inner}{stem}{end}").exists()
        for inner in ("", "src/")
        for end in ("/__init__.py", ".py")
    )


def _group(groups: Mapping[str, Any], name: str, path: str, chain: tuple[str, ...]) -> list[str]:
    if name in chain:
        way = " → ".join((*chain, name))
        raise BadInput(f"the dependency groups include each other in a circle: {way}", place=Evidence(path))
    texts: list[str] = []
    for item in groups.get(name, []):
        if isinstance(item, dict):
            texts += _group(groups, str(item.get("include-group")), path, (*chain, name))
        else:
            texts.append(str(item))
    return texts


def _poetry_wishes(table: Mapping[str, Any], tree: Tree, path: str) -> list[RequirementLine]:
    from plainfall.ecosystems.python.lists.graphs import spelled_out

    rows = dict(table.get("dependencies", {}))
    for name, group in table.get("group", {}).items():
        if name == "dev":
            rows |= group.get("dependencies", {})
    rows |= table.get("dev-dependencies", {})
    wishes = []
    for name, rules in rows.items():
        for rule in rules if isinstance(rules, list) else [rules]:
            detail = rule if isinstance(rule, dict) else {"version": str(rule)}
            if name.lower() == "python" or detail.get("optional"):
                continue
            extras = f"[{','.join(detail['extras'])}]" if detail.get("extras") else ""
            said = [detail["markers"]] if detail.get("markers") else []
            if detail.get("python"):
                said.append(_python_marker(spelled_out(str(detail["python"]))))
            marker = f" ; {' and '.join(f'({one})' for one in said if one)}" if any(said) else ""
            version = spelled_out(str(detail.get("version", "*")))
            wishes.append(requirement_at(f"{name}{extras}{version}{marker}", tree.line_of(path, name)))
    return wishes


def _python_marker(versions: str) -> str:
    """The marker (PEP 508) for versions of Python; "" for any.

    >>> _python_marker(">=3.9,<3.10"), _python_marker("")
    ("python_full_version >= '3.9' and python_full_version < '3.10'", '')
    """
    clauses = (_CLAUSE.fullmatch(clause.strip()) for clause in versions.split(","))
    return " and ".join(f"python_full_version {one[1]} '{one[2]}'" for one in clauses if one is not None)


_CLAUSE = regex(r"([<>=!~]=?=?)\s*([\w.*+-]+)")


def read_pipfile(tree: Tree, path: str, target: Target) -> Listed:
    """``[packages]`` and ``[dev-packages]`` of a ``Pipfile`` that has no lock."""
    table = load_toml(tree, path)
    wishes = []
    for section in ("packages", "dev-packages"):
        for name, rule in table.get(section, {}).items():
            detail = rule if isinstance(rule, dict) else {"version": str(rule)}
            version = str(detail.get("version", "*"))
            extras = f"[{','.join(detail['extras'])}]" if detail.get("extras") else ""
            marker = f" ; {detail['markers']}" if detail.get("markers") else ""
            text = f"{name}{extras}{'' if version == '*' else version}{marker}"
            wishes.append(requirement_at(text, tree.line_of(path, name)))
    return Listed("Pipfile", path, (path,), None, tuple(wishes))


def read_setup_cfg(tree: Tree, path: str, target: Target) -> Listed:
    """``install_requires`` and the wanted ``extras_require`` of ``setup.cfg``."""
    import configparser  # rarely needed, and slow to import

    parser = configparser.RawConfigParser()
    try:
        parser.read_string(tree.text(path), path)
    except configparser.Error as error:
        line = getattr(error, "lineno", 0) or 0
        raise BadInput(
            f"it cannot be read: {str(error).splitlines()[0]}", place=Evidence(path, line)
        ) from error
    texts = _lines(parser.get("options", "install_requires", fallback=""))
    section = "options.extras_require"
    extras = parser.options(section) if parser.has_section(section) else []
    for extra in sorted(target.extras & set(extras)):
        texts += _lines(parser.get(section, extra))
    wishes = _all(texts, tree, path)
    folder = path.rpartition("/")[0]
    if parser.has_option("metadata", "name") or (tree.root / folder / "setup.py").is_file():
        wishes.append(_own(tree.line_of(path, "name")))
    return Listed("setup.cfg", path, (path,), None, tuple(wishes), extras=tuple(extras))


def _texts(value: Any) -> list[str]:
    """Requirements as setuptools takes them: a list, or one text with a line for each.

    >>> _texts("gaugekit"), _texts(["a", "b"])
    (['gaugekit'], ['a', 'b'])
    """
    return _lines(value) if isinstance(value, str) else [str(one) for one in value or ()]


def _lines(text: str) -> list[str]:
    return [line.strip() for line in text.splitlines() if line.strip() and not line.strip().startswith("#")]


def read_setup_py(tree: Tree, path: str, target: Target) -> Listed:
    """The literal ``install_requires`` and ``extras_require`` of a ``setup.py``, from its syntax tree; the
    file is not run. What is computed cannot be read, and is remarked."""
    try:
        module = ast.parse(tree.text(path))
    except SyntaxError as error:
        raise BadInput(f"it cannot be read: {error.msg}", place=Evidence(path, error.lineno or 0)) from error
    except (ValueError, RecursionError, MemoryError) as error:  # the last for too many brackets
        raise BadInput("it cannot be read: too deep, or no text", place=Evidence(path)) from error
    names = {
        target_.id: node.value
        for node in module.body
        if isinstance(node, ast.Assign)
        for target_ in node.targets
        if isinstance(target_, ast.Name)
    }
    results: dict[str, Any] = {}
    remarks = []
    called = False
    for node in ast.walk(module):
        if isinstance(node, ast.Call) and ast.unparse(node.func).rpartition(".")[2] == "setup":
            keywords = [one for keyword in node.keywords for one in _spread(keyword, names)]
            called = called or any(keyword.arg in ("name", None) for keyword in keywords)
            for keyword in keywords:
                if keyword.arg in ("install_requires", "extras_require"):
                    try:
                        results[keyword.arg] = _stated(keyword.value, names, 0)
                    except ValueError:
                        remarks.append(
                            f"{keyword.arg} is computed, and cannot be read without running {path}"
                        )
    extras = results.get("extras_require", {})
    extras = extras if isinstance(extras, dict) else {}
    texts = _texts(results.get("install_requires", []))
    for extra in sorted(target.extras & set(extras)):
        texts += _texts(extras[extra])
    wishes = _all(texts, tree, path)
    if called:
        wishes.append(_own(tree.line_of(path, "setup(")))
    return Listed(
        "setup.py", path, (path,), None, tuple(wishes), extras=tuple(extras), remarks=tuple(remarks)
    )


def _spread(keyword: ast.keyword, names: Mapping[str, ast.expr]) -> list[ast.keyword]:
    """The keywords that ``**NAME`` stands for, where the name holds a literal dictionary or a call of ``dict``."""
    value = keyword.value
    if keyword.arg is not None or not isinstance(value, ast.Name) or value.id not in names:
        return [keyword]
    held = names[value.id]
    if isinstance(held, ast.Call) and ast.unparse(held.func) == "dict":
        return [keyword, *held.keywords]
    if isinstance(held, ast.Dict):
        pairs = zip(held.keys, held.values, strict=True)
        texts = [(key.value, one) for key, one in pairs if isinstance(key, ast.Constant)]
        return [keyword, *(ast.keyword(arg=str(key), value=one) for key, one in texts)]
    return [keyword]


def _stated(node: ast.expr, names: Mapping[str, ast.expr], depth: int) -> Any:
    """The value of an expression of literals, names of the module that hold such, and sums of lists. Raises
    ValueError for anything else."""
    if depth > _DEEPEST:
        raise ValueError("too deep")
    if isinstance(node, ast.Name) and node.id in names:
        return _stated(names[node.id], names, depth + 1)
    if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Add):
        left, right = (_stated(one, names, depth + 1) for one in (node.left, node.right))
        if isinstance(left, list) and isinstance(right, list):
            return left + right
    if isinstance(node, ast.List | ast.Tuple):
        return [_stated(one, names, depth + 1) for one in node.elts]
    if isinstance(node, ast.Dict) and all(node.keys):
        pairs = zip(node.keys, node.values, strict=True)
        return {_stated(key, names, depth + 1): _stated(one, names, depth + 1) for key, one in pairs if key}
    if isinstance(node, ast.Constant) and isinstance(node.value, str):
        return node.value
    raise ValueError("computed")


def read_environment_yml(tree: Tree, path: str, target: Target) -> Listed:
    """The part of an ``environment.yml`` that a package index can serve: its ``pip`` list, and those of its
    other entries that are plain pure names. Python itself is left out."""
    table = yaml_value(tree.text(path), path) or {}
    if not isinstance(table, dict):
        raise BadInput("it must hold a mapping", place=Evidence(path, 1), remedy=_REMEDY)
    wishes, remarks = [], []
    for item in table.get("dependencies", []):
        if isinstance(item, dict):
            for text in item.get("pip", []):
                if not str(text).startswith("-"):
                    wishes.append(requirement_at(str(text), tree.line_of(path, str(text))))
        elif not re.match(r"(python|pip|setuptools|wheel)\b", str(item)):
            text = re.sub(r"(?<![=<>!~])=(?!=)([\w.*]+).*", r"==\1", str(item).split("::")[-1])
            try:
                wishes.append(requirement_at(text.rstrip("*"), tree.line_of(path, str(item))))
            except BadInput:
                remarks.append(f"{item} in {path} is for another package manager, and is left out")
    return Listed("environment.yml", path, (path,), None, tuple(wishes), remarks=tuple(remarks))
