"""A Python module's syntax tree with parents, literal values, and what happens where a value is absent."""

from __future__ import annotations

import ast
from collections.abc import Iterator
from functools import cached_property
from typing import TypeVar

from plainfall.evidence import Evidence
from plainfall.sources.names import covered

__all__ = ["Module", "dotted", "literal_text", "path_of"]

_STOPS = {"exit", "sys.exit", "quit", "os._exit", "abort", "fail"}
# These hold nothing that a reader looks for.
_UNINTERESTING = (ast.expr_context, ast.operator, ast.cmpop, ast.unaryop, ast.boolop)
N = TypeVar("N", bound=ast.AST)
_FUNCTIONS = (ast.FunctionDef, ast.AsyncFunctionDef, ast.Lambda)


_ROUTES = frozenset("route get post put patch delete websocket api_route task shared_task command".split())


class Module:
    """One parsed source. ``parents`` gives the node that each one stands in."""

    def __init__(self, tree: ast.Module, text: str, path: str) -> None:
        self.tree = tree
        self.path = path
        self.parents: dict[ast.AST, ast.AST] = {}
        self._by_type: dict[type, list[ast.AST]] = {}
        waiting: list[ast.AST] = [tree]
        while waiting:
            node = waiting.pop()
            if isinstance(node, _UNINTERESTING):
                continue
            self._by_type.setdefault(type(node), []).append(node)
            for name in node._fields:
                value = getattr(node, name, None)
                if isinstance(value, ast.AST):
                    self.parents[value] = node
                    waiting.append(value)
                elif isinstance(value, list):
                    for one in value:
                        if isinstance(one, ast.AST):
                            self.parents[one] = node
                            waiting.append(one)
        self._lines = text.splitlines()

    def all(self, *kinds: type[N]) -> list[N]:
        """The nodes of these types, in the order of their lines."""
        results = [node for kind in kinds for node in self._by_type.get(kind, ())]
        results.sort(key=lambda node: (getattr(node, "lineno", 0), getattr(node, "col_offset", 0)))
        return results  # type: ignore[return-value]

    def place(self, node: ast.AST, secret: str | None = None) -> Evidence:
        """Where a node stands, as evidence; ``secret`` is a literal to cover in the line's text."""
        line: int = getattr(node, "lineno", 0)
        text = self._lines[line - 1].strip() if 0 < line <= len(self._lines) else ""
        return Evidence(self.path, line, covered(text, secret)[:160])

    @cached_property
    def _constants(self) -> dict[str, ast.expr]:
        results: dict[str, ast.expr] = {}
        for node in self.tree.body:
            if isinstance(node, ast.Assign) and len(node.targets) == 1:
                name = node.targets[0]
                if isinstance(name, ast.Name):
                    results[name.id] = node.value
        return results

    def assigned(self, name: str) -> ast.expr | None:
        """What the module assigns to a name at its top."""
        return self._constants.get(name)

    def texts_of(self, node: ast.expr) -> list[tuple[str, ast.AST | None]]:
        """The texts that an expression can be: a literal, a constant of the module, or each of those that a
        loop runs over; with the loop, or None."""
        if isinstance(node, ast.Constant):
            return [(node.value, None)] if isinstance(node.value, str) else []
        if isinstance(node, ast.Name):
            loop = self._loop_over(node)
            if loop is not None:
                source, where = loop
                return [(str(value), where) for value in self.values_of(source) if isinstance(value, str)]
            known = self._constants.get(node.id)
            if isinstance(known, ast.Constant) and isinstance(known.value, str):
                return [(known.value, None)]
        return []

    def values_of(self, node: ast.expr) -> list[object]:
        """The literal values that a literal, a list of them, or a constant's name stands for."""
        if isinstance(node, ast.Name) and node.id in self._constants:
            node = self._constants[node.id]
        if isinstance(node, ast.Constant):
            return [node.value]
        if isinstance(node, ast.List | ast.Tuple | ast.Set):
            return [one.value for one in node.elts if isinstance(one, ast.Constant)]
        return []

    def _loop_over(self, name: ast.Name) -> tuple[ast.expr, ast.AST] | None:
        node: ast.AST | None = name
        while node is not None:
            if isinstance(node, ast.For) and isinstance(node.target, ast.Name) and node.target.id == name.id:
                return node.iter, node
            if isinstance(node, ast.ListComp | ast.SetComp | ast.GeneratorExp | ast.DictComp):
                for part in node.generators:
                    if isinstance(part.target, ast.Name) and part.target.id == name.id:
                        return part.iter, node
            node = self.parents.get(node)
        return None

    def is_stop(self, node: ast.AST) -> bool:
        """Whether a node ends the program: ``raise``, or a call that exits."""
        return isinstance(node, ast.Raise) or (isinstance(node, ast.Call) and dotted(node.func) in _STOPS)

    def _stops(self, body: list[ast.stmt]) -> bool:
        return any(self.is_stop(node) for one in body for node in ast.walk(one))

    def above(self, node: ast.AST) -> Iterator[tuple[ast.AST, ast.AST]]:
        """Each node around this one, the nearest first, with the child that leads to it."""
        child, outer = node, self.parents.get(node)
        while outer is not None:
            yield outer, child
            child, outer = outer, self.parents.get(outer)

    def absence_is_handled(self, node: ast.AST, key: str) -> bool:
        """Whether a lookup that raises stands where that is caught, where the key is known to be there, or in a
        branch that is not surely taken, or in what answers a request."""
        for outer, child in self.above(node):
            if isinstance(outer, ast.Try) and child in outer.body:
                for handler in outer.handlers:
                    caught = ast.unparse(handler.type) if handler.type else ""
                    if not caught or "KeyError" in caught or "Exception" in caught:
                        return not self._stops(handler.body)
            if isinstance(outer, ast.If | ast.IfExp) and child is not outer.test:
                if not _is_main_guard(outer.test):
                    return True
            elif isinstance(outer, ast.match_case | ast.While | ast.ExceptHandler) or (
                isinstance(outer, ast.FunctionDef | ast.AsyncFunctionDef)
                and any(_is_route(one) for one in outer.decorator_list)
            ):
                return True
        return self.is_left_before(node, key)

    def is_left_before(self, node: ast.AST, key: str) -> bool:
        """Whether the function around a read is left, before the read, where the key is not there."""
        function = next((outer for outer, _ in self.above(node) if isinstance(outer, _FUNCTIONS)), None)
        if function is None:
            return False
        line: int = getattr(node, "lineno", 0)
        leaves = (ast.Return, ast.Continue, ast.Break)
        return any(
            isinstance(one, ast.If)
            and one.lineno < line
            and isinstance(one.body[-1], leaves)
            and f"'{key}'" in ast.unparse(one.test)
            for one in ast.walk(function)
        )

    def is_guarded(self, node: ast.AST, whole: ast.AST, loop: ast.AST | None = None) -> bool:
        """Whether the code stops when the read ``node`` (``whole`` with its conversions) gives nothing: it is
        tested right there, or what it is assigned to is, or what a loop gathered is."""
        for outer, child in self.above(node):
            if isinstance(outer, ast.Assert) and child is outer.test:
                return True
            if isinstance(outer, ast.If) and child is outer.test:
                return self._negative(outer.test, node) and self._stops(outer.body)
            if isinstance(outer, ast.stmt):
                break
        statement = self.parents.get(whole)
        if isinstance(statement, ast.NamedExpr):
            return self._tested_later(ast.unparse(statement.target), statement)
        gathered = loop is not None and not isinstance(loop, ast.For)
        target: ast.AST | None = self.parents.get(loop) if gathered and loop is not None else statement
        while target is not None and not isinstance(target, ast.stmt):
            target = self.parents.get(target)
        if isinstance(target, ast.Assign) and len(target.targets) == 1:
            return self._tested_later(ast.unparse(target.targets[0]), target, positive=gathered)
        if isinstance(target, ast.AnnAssign):
            return self._tested_later(ast.unparse(target.target), target)
        return False

    def _negative(self, test: ast.expr, node: ast.AST) -> bool:
        """Whether a test holds when the node's value is absent."""
        if isinstance(test, ast.BoolOp):
            if isinstance(test.op, ast.And):
                return False  # something else must hold, too: it is not surely so
            return any(self._negative(one, node) for one in test.values)
        if isinstance(test, ast.UnaryOp) and isinstance(test.op, ast.Not):
            return any(one is node for one in ast.walk(test.operand))
        if isinstance(test, ast.Compare) and any(one is node for one in ast.walk(test)):
            if isinstance(test.ops[0], ast.NotIn):
                return True
            right = test.comparators[0]
            empty = isinstance(right, ast.Constant) and right.value in (None, "")
            return empty and isinstance(test.ops[0], ast.Is | ast.Eq)
        return False

    @cached_property
    def _tests(self) -> list[tuple[int, str]]:
        """Line and condition of each ``if`` whose body stops the program, and of each ``assert``."""
        tests = [(node.lineno, ast.unparse(node.test)) for node in self.all(ast.If) if self._stops(node.body)]
        asserted = [(node.lineno, f"not {ast.unparse(node.test)}") for node in self.all(ast.Assert)]
        return tests + asserted

    def _tested_later(self, name: str, statement: ast.AST, *, positive: bool = False) -> bool:
        """Whether the name is tested after a statement, in the same scope, with a stop where it is empty
        (``positive``: where it is not, as a list of what is missing)."""
        scope = next((outer for outer, _ in self.above(statement) if isinstance(outer, _FUNCTIONS)), None)
        after: int = getattr(statement, "lineno", 0)
        before: int = (getattr(scope, "end_lineno", None) or 0) if scope is not None else len(self._lines)
        for line, text in self._tests:
            if not after <= line <= before:
                continue
            pieces = {piece.strip() for piece in text.replace(" and ", " or ").split(" or ")}
            if positive and (name in pieces or f"len({name})" in text):
                return True
            if pieces & {f"not {name}", f"{name} is None", f"{name} == ''", f"not {name} is not None"}:
                return True
            if text.startswith("not all(") and name in text:
                return True
        return False

    def demanded_length(self, whole: ast.AST) -> tuple[int, bool]:
        """The length that a test of ``len()`` demands of what the read is assigned to, and whether just that
        one; 0 for none."""
        statement = self.parents.get(whole)
        if not isinstance(statement, ast.Assign) or len(statement.targets) != 1:
            return 0, False
        return self._lengths.get(ast.unparse(statement.targets[0]), (0, False))

    @cached_property
    def _lengths(self) -> dict[str, tuple[int, bool]]:
        lengths: dict[str, tuple[int, bool]] = {}
        for result in self.all(ast.Compare):
            left, right = result.left, result.comparators[0]
            if not (isinstance(left, ast.Call) and dotted(left.func) == "len" and left.args):
                continue
            if isinstance(right, ast.Constant) and isinstance(right.value, int):
                wanted = right.value + isinstance(result.ops[0], ast.LtE)
                exact = isinstance(result.ops[0], ast.NotEq | ast.Eq)
                lengths.setdefault(ast.unparse(left.args[0]), (wanted, exact))
        return lengths


def _is_route(decorator: ast.expr) -> bool:
    """Whether a decorator makes a function answer requests, or run in the background."""
    called = decorator.func if isinstance(decorator, ast.Call) else decorator
    return isinstance(called, ast.Attribute) and called.attr in _ROUTES


def _is_main_guard(test: ast.expr) -> bool:
    """Whether a condition is that the module is the program itself."""
    return isinstance(test, ast.Compare) and dotted(test.left) == "__name__"


def dotted(node: ast.AST | None) -> str:
    """``a.b.c`` for names and attributes, else ""."""
    pieces: list[str] = []
    while isinstance(node, ast.Attribute):
        pieces.append(node.attr)
        node = node.value
    return ".".join(reversed([*pieces, node.id])) if isinstance(node, ast.Name) else ""


def literal_text(node: ast.expr) -> str | None:
    """A literal as a settings file would hold it; None for ``None``; the source text of anything else."""
    if isinstance(node, ast.Constant):
        if node.value is None:
            return None
        return str(node.value).lower() if isinstance(node.value, bool) else str(node.value)
    if isinstance(node, ast.List | ast.Tuple) and all(isinstance(one, ast.Constant) for one in node.elts):
        return ",".join(str(one.value) for one in node.elts if isinstance(one, ast.Constant))
    return ast.unparse(node)[:80]


def path_of(node: ast.expr, module: Module) -> tuple[str, str] | None:
    """A file name that an expression builds (joined literals), and its base: "file" where the expression
    starts from ``__file__``, else ""."""
    text = ast.unparse(node)
    base = "file" if "__file__" in text else ""
    pieces = [
        one.value
        for one in ast.walk(node)
        if isinstance(one, ast.Constant) and isinstance(one.value, str) and not _is_mode(one, module)
    ]
    if not pieces or not all(pieces):
        return None
    if isinstance(node, ast.Constant):
        return pieces[0], base
    if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Div):
        return "/".join(_in_order(node)), base
    if isinstance(node, ast.Call) and dotted(node.func).rpartition(".")[2] in ("join", "Path", "joinpath"):
        return "/".join(p for one in node.args for p in _in_order(one)), base
    return (pieces[-1], base) if isinstance(node, ast.Call) else None


def _in_order(node: ast.AST) -> list[str]:
    """The text literals below a node, from left to right."""
    if isinstance(node, ast.Constant):
        return [node.value] if isinstance(node.value, str) else []
    return [piece for child in ast.iter_child_nodes(node) for piece in _in_order(child)]


def _is_mode(node: ast.Constant, module: Module) -> bool:
    """Whether a literal is the mode of an ``open`` or an encoding, not a name."""
    outer = module.parents.get(node)
    return isinstance(outer, ast.keyword) and outer.arg in ("encoding", "mode", "env_file_encoding")
