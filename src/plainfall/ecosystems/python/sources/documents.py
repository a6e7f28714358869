"""Keys that Python code looks up in a configuration file which it has loaded."""

from __future__ import annotations

import ast
from collections.abc import Iterator

from plainfall.ecosystems.python.sources.tree import Module, dotted, literal_text, path_of
from plainfall.sources.values import Use

__all__ = ["document_uses"]

_LOADERS = {
    "safe_load", "load", "loads", "full_load", "unsafe_load", "parse", "read_text", "open",
}  # fmt: skip
_MODULES = {"yaml", "json", "tomllib", "tomli", "toml", "ruamel.yaml", "rtoml", "json5"}
_TYPED = {"getint": "number", "getfloat": "number", "getboolean": "boolean", "get": "text"}


def document_uses(module: Module) -> Iterator[Use]:
    """The lookups, their keys joined with dots, each with the file's name as the code has it."""
    holders = _holders(module)
    if not holders:
        return
    for node in module.all(ast.Subscript, ast.Call):
        outer = module.parents.get(node)
        inside = isinstance(outer, ast.Subscript) and outer.value is node
        followed = isinstance(outer, ast.Attribute) and outer.attr in _TYPED
        if not inside and not followed:
            result = _chain(node, holders)
            if result and result[1]:
                file, keys, default, needed, kind = result
                yield Use(".".join(keys), module.place(node), default, kind, needed, "", 0, file)


def _holders(module: Module) -> dict[str, str]:
    """Names that hold a loaded file (or a configuration parser that has read one), with the file."""
    holders: dict[str, str] = {}
    for node in module.all(ast.Assign, ast.Return):
        if isinstance(node, ast.Assign) and len(node.targets) == 1 and isinstance(node.value, ast.Call):
            name = dotted(node.targets[0])
            file = _file_of(node.value, module)
            if name and file:
                holders[name] = file
            elif name and dotted(node.value.func).endswith(("ConfigParser", "RawConfigParser")):
                for call in module.all(ast.Call):
                    if dotted(call.func) == f"{name}.read" and call.args:
                        result = path_of(call.args[0], module)
                        if result:
                            holders[name] = result[0]
        elif isinstance(node, ast.Return) and isinstance(node.value, ast.Call):
            file = _file_of(node.value, module)
            owner = next((o for o, _ in module.above(node) if isinstance(o, ast.FunctionDef)), None)
            if file and owner is not None:
                holders[f"{owner.name}()"] = file
    for node in module.all(ast.Assign):
        if len(node.targets) == 1 and isinstance(node.value, ast.Call):
            called = f"{dotted(node.value.func)}()"
            if called in holders and dotted(node.targets[0]):
                holders[dotted(node.targets[0])] = holders[called]
    return holders


def _file_of(call: ast.Call, module: Module) -> str:
    """The file that a call loads: ``yaml.safe_load(open("x.yml"))``, or a handle opened around it."""
    name = dotted(call.func)
    owner, _, method = name.rpartition(".")
    if method not in _LOADERS or owner.rpartition(".")[2] not in {m.rpartition(".")[2] for m in _MODULES}:
        return ""
    for node in ast.walk(call):
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and "." in node.value:
            return _named(node.value)
        if isinstance(node, ast.Name):
            file = _opened(node.id, call, module) or _assigned(node.id, module)
            if file:
                return file
    return ""


def _opened(handle: str, call: ast.Call, module: Module) -> str:
    for outer, _ in module.above(call):
        if isinstance(outer, ast.With):
            for item in outer.items:
                if item.optional_vars is not None and dotted(item.optional_vars) == handle:
                    for node in ast.walk(item.context_expr):
                        if (
                            isinstance(node, ast.Constant)
                            and isinstance(node.value, str)
                            and "." in node.value
                        ):
                            return _named(node.value)
                        if isinstance(node, ast.Name) and (file := _assigned(node.id, module)):
                            return file
    return ""


def _assigned(name: str, module: Module) -> str:
    for node in module.all(ast.Assign):
        if dotted(node.targets[0]) == name:
            result = path_of(node.value, module)
            if result and "." in result[0]:
                return _named(result[0])
    return ""


def _named(path: str) -> str:
    return path.removeprefix("./")


def _chain(node: ast.expr, holders: dict[str, str]) -> tuple[str, list[str], str | None, bool, str] | None:
    """(file, keys, default, whether absence stops, type) of a lookup that starts at a holder."""
    if dotted(node) in holders:
        return holders[dotted(node)], [], None, True, "text"
    if isinstance(node, ast.Call) and f"{dotted(node.func)}()" in holders:
        return holders[f"{dotted(node.func)}()"], [], None, True, "text"
    if isinstance(node, ast.Subscript) and isinstance(node.slice, ast.Constant):
        before = _chain(node.value, holders)
        if before and isinstance(node.slice.value, str):
            file, keys, _, needed, _ = before
            return file, [*keys, node.slice.value], None, needed, "text"
        return None
    if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and node.func.attr in _TYPED:
        before = _chain(node.func.value, holders)
        words = [one.value for one in node.args if isinstance(one, ast.Constant)]
        if before is None or not words or not isinstance(words[0], str):
            return None
        file, keys, _, needed, _ = before
        kind = _TYPED[node.func.attr]
        fallback = next((word.value for word in node.keywords if word.arg == "fallback"), None)
        if not keys and len(words) > 1 and file.endswith((".ini", ".cfg", ".conf")):
            default = literal_text(fallback) if fallback is not None else None
            return file, [words[0], str(words[1])], default, default is None, kind
        default = literal_text(node.args[1]) if len(node.args) > 1 else None
        if fallback is not None:
            default = literal_text(fallback)
        return file, [*keys, words[0]], default, False, kind
    return None
