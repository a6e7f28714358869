"""The databases that a settings module names: a dictionary with ``ENGINE``, as Django has them."""

from __future__ import annotations

import ast
import json
from collections.abc import Iterator

from plainfall.ecosystems.python.sources.tree import Module
from plainfall.evidence import Evidence
from plainfall.sources.values import Constant

__all__ = ["databases"]

_PIECES = ("ENGINE", "NAME", "USER", "PASSWORD", "HOST", "PORT")
_READERS = (
    "get",
    "getenv",
    "env",
    "config",
    "str",
    "int",
    "environ",
    "pop",
    "get_env",
    "get_env_variable",
    "decouple",
)


def databases(module: Module) -> Iterator[Constant]:
    """A constant of the kind "database" for each; its value is JSON: a piece to ``{"value": …}``, or to ``{"key":
    …, "default": …}`` where a setting holds it."""
    for node in module.all(ast.Dict):
        pieces: dict[str, dict[str, str]] = {}
        for key, value in zip(node.keys, node.values, strict=True):
            if isinstance(key, ast.Constant) and key.value in _PIECES:
                piece = _piece(value, module)
                if piece is not None:
                    pieces[str(key.value)] = piece
        if "ENGINE" in pieces and "NAME" in pieces:
            yield Constant("", json.dumps(pieces), "database", Evidence(module.path, node.lineno, "ENGINE"))


def _piece(node: ast.expr, module: Module, depth: int = 2) -> dict[str, str] | None:
    if isinstance(node, ast.Constant) and isinstance(node.value, str | int):
        return {"value": str(node.value)}
    if isinstance(node, ast.Name):
        value = module.assigned(node.id) if depth else None
        return _piece(value, module, depth - 1) if value is not None else None
    if isinstance(node, ast.BoolOp) and isinstance(node.op, ast.Or):
        first, last = _piece(node.values[0], module), _piece(node.values[-1], module)
        if first and last and "key" in first and "value" in last:
            return {**first, "default": last["value"]}
        return first
    if isinstance(node, ast.Subscript) and isinstance(node.slice, ast.Constant):
        name = ast.unparse(node.value)
        return {"key": str(node.slice.value)} if name.endswith("environ") else None
    if isinstance(node, ast.Call) and node.args and isinstance(node.args[0], ast.Constant):
        name = ast.unparse(node.func).rpartition(".")[2]
        if name.lower() not in _READERS:
            return None
        default = node.args[1] if len(node.args) > 1 else None
        default = next((one.value for one in node.keywords if one.arg == "default"), default)
        result = {"key": str(node.args[0].value)}
        if isinstance(default, ast.Constant) and default.value is not None:
            result["default"] = str(default.value)
        return result
    return None
