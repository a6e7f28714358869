"""Typed settings classes of Python: fields that are filled from the environment by their names."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator

from plainfall.ecosystems.python.sources.tree import Module, dotted, literal_text
from plainfall.sources.names import looks_secret
from plainfall.sources.values import Use

__all__ = ["class_uses"]

_BASE = "BaseSettings"


def class_uses(module: Module) -> Iterator[Use]:
    """The fields of every class that descends, in this module, from a base settings class."""
    for node in _classes(module):
        prefix = _option(node, "env_prefix")
        for field in node.body:
            if isinstance(field, ast.AnnAssign) and isinstance(field.target, ast.Name):
                name = field.target.id
                if name in ("model_config", "Config") or name.startswith("_"):
                    continue
                yield from _field(module, field, name, prefix)


def _classes(module: Module) -> list[ast.ClassDef]:
    results: list[ast.ClassDef] = []
    names: set[str] = {_BASE}
    for node in module.all(ast.ClassDef):
        bases = {dotted(base).rpartition(".")[2] for base in node.bases}
        if bases & names:
            names.add(node.name)
            results.append(node)
    return results


def _option_node(node: ast.ClassDef, name: str) -> ast.expr | None:
    """An option of the class: in ``model_config`` (a call or a mapping) or the inner class ``Config``."""
    for inner in node.body:
        if isinstance(inner, ast.Assign | ast.AnnAssign) and inner.value is not None:
            target = inner.targets[0] if isinstance(inner, ast.Assign) else inner.target
            if dotted(target) != "model_config":
                continue
            if isinstance(inner.value, ast.Call):
                return next((word.value for word in inner.value.keywords if word.arg == name), None)
            if isinstance(inner.value, ast.Dict):
                for key, value in zip(inner.value.keys, inner.value.values, strict=True):
                    if isinstance(key, ast.Constant) and key.value == name:
                        return value
        elif isinstance(inner, ast.ClassDef) and inner.name == "Config":
            for option in inner.body:
                if isinstance(option, ast.Assign) and dotted(option.targets[0]) == name:
                    return option.value
    return None


def _option(node: ast.ClassDef, name: str) -> str:
    value = _option_node(node, name)
    return value.value if isinstance(value, ast.Constant) and isinstance(value.value, str) else ""


def _field(module: Module, field: ast.AnnAssign, name: str, prefix: str) -> Iterator[Use]:
    keys = [(prefix + name).upper()]
    annotation = ast.unparse(field.annotation)
    value, default, needed, length = field.value, None, True, 0
    if isinstance(value, ast.Call) and dotted(value.func).rpartition(".")[2] == "Field":
        words = {word.arg: word.value for word in value.keywords}
        for word in ("validation_alias", "alias", "env"):
            if word in words:
                named = [
                    one.value
                    for one in ast.walk(words[word])
                    if isinstance(one, ast.Constant) and isinstance(one.value, str)
                ]
                keys = [key.upper() for key in named[:1]] or keys
                break
        given = value.args[0] if value.args else words.get("default")
        least = words.get("min_length")
        if isinstance(least, ast.Constant) and isinstance(least.value, int):
            length = least.value
        needed = given is None and "default_factory" not in words
        if isinstance(given, ast.Constant) and given.value is ...:
            needed = True
        elif given is not None:
            default = literal_text(given)
        elif "default_factory" in words:
            default = ast.unparse(words["default_factory"])
    elif value is not None:
        needed, default = False, literal_text(value)
    secret = "Secret" in annotation
    for key in keys:
        yield Use(
            key,
            module.place(field, default if secret or looks_secret(key) else None),
            default,
            _type(annotation),
            needed,
            "",
            length,
            "",
            secret,
        )


def _type(annotation: str) -> str:
    bare = re.sub(r"Optional\[(.*)\]|(?<!\s)\s*\|\s*None", r"\1", annotation)
    for pattern, kind in (
        (r"^(list|List|tuple|Tuple|set|Set|frozenset)\b", "list"),
        (r"^(dict|Dict|Json)\b", "json"),
        (r"^bool\b", "boolean"),
        (r"^(int|float|Decimal|PositiveInt|NonNegativeInt|conint)\b", "number"),
        (r"(Url|URL|Dsn)\b", "address"),
        (r"Path\b", "path"),
    ):
        if re.search(pattern, bare):
            return kind
    return "text"
