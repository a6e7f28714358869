"""Sources read with tree-sitter: places found in them, and the meaning of the nodes there.

A reader finds the places that matter with a regular expression and asks the tree for the node that stands
there, so that comments and texts do not count and a file is never walked in full.
"""

from __future__ import annotations

import functools
import importlib
import re
import time
from collections.abc import Collection, Iterator
from typing import TYPE_CHECKING

from plainfall.evidence import Evidence
from plainfall.patterns import regex
from plainfall.sources.names import covered

if TYPE_CHECKING:
    from tree_sitter import Node, Parser, Tree

__all__ = ["THROUGH", "Source", "above", "arguments_of", "called", "literal", "source_text", "string_value"]

# Nodes that hold one other and mean the same.
THROUGH = frozenset(
    "parenthesized_expression as_expression satisfies_expression argument await_expression "
    "parenthesized_statements type_assertion".split()
)
_STRINGS = frozenset("string encapsed_string template_string".split())
_IF = regex(r"\b(if|unless)\b")


@functools.cache
def _parser(grammar: str) -> Parser:
    from tree_sitter import Language, Parser

    module, _, function = grammar.partition(":")
    return Parser(Language(getattr(importlib.import_module(module), function)()))


def _parsed(parser: Parser, data: bytes, deadline: float) -> Tree | None:
    """The tree of a source; None where parsing has not ended by the deadline (seconds of the monotonic clock)."""
    if hasattr(parser, "timeout_micros"):  # before 0.25
        parser.timeout_micros = max(1, int((deadline - time.monotonic()) * 1e6))
        parse = functools.partial(parser.parse, data)
    else:
        parse = functools.partial(
            parser.parse,
            lambda offset, point: data[offset : offset + _PIECE],
            progress_callback=lambda offset, has_error: time.monotonic() > deadline,
        )
    try:
        tree: Tree | None = parse()
    except ValueError:
        tree = None
    if tree is None:
        parser.reset()
    return tree


_PIECE = 1 << 16  # bytes that the parser is given at once
_LONGEST = 1.5  # seconds that one file may take
_DEEPEST = 60  # nodes within nodes
_MOST_PLACES = 2_000  # matches of one pattern in one file


class Source:
    """One parsed file; ``grammar`` names the function that gives it ("module:function"), ``first_line`` is the
    line on which ``text`` begins in the file."""

    def __init__(self, text: str, path: str, grammar: str, first_line: int = 1) -> None:
        self.path = path
        self.text = text
        self.data = text.encode()
        self._deadline = time.monotonic() + _LONGEST
        tree = _parsed(_parser(grammar), self.data, self._deadline)
        self.cut = tree is None
        # What takes too long to parse, as hostile files do, says nothing.
        self.root = (tree or _parser(grammar).parse(b"")).root_node
        self._lines = text.splitlines()
        self._first = first_line
        self._plain = len(self.data) == len(text)
        self.demands_lengths: bool | None = None
        self._conditions: list[Node] | None = None

    def conditions(self, types: Collection[str]) -> list[Node]:
        """Every node with a condition (of these types), in order."""
        if self._conditions is None:
            tokens = [node.parent for _, node in self.places(_IF)]
            self._conditions = [one for one in tokens if one is not None and one.type in types]
        return self._conditions

    def places(self, pattern: re.Pattern[str]) -> Iterator[tuple[re.Match[str], Node]]:
        """Each match with the smallest node that spans its first group (or all of it); none in comments and
        texts. Ends early (``cut``) after many matches, or when the file has taken its time."""
        for count, result in enumerate(pattern.finditer(self.text)):
            if count >= _MOST_PLACES or time.monotonic() > self._deadline:
                self.cut = True
                return
            group = 1 if result.re.groups else 0
            start, end = result.span(group)
            if not self._plain:
                start, end = len(self.text[:start].encode()), len(self.text[:end].encode())
            node = self.root.descendant_for_byte_range(start, end)
            if node is not None and node.type not in ("comment", "string_fragment", "string_content"):
                yield result, node

    def place(self, node: Node, secret: str | None = None) -> Evidence:
        """Where a node stands, as evidence; ``secret`` is a literal to cover in the line's text."""
        row = node.start_point[0]
        text = self._lines[row].strip() if row < len(self._lines) else ""
        return Evidence(self.path, row + self._first, covered(text, secret)[:160])


def above(node: Node) -> Iterator[Node]:
    """The nodes above a node, the nearest first, as far as people nest: finding each takes a time in proportion
    to its depth."""
    current = node.parent
    for _ in range(_DEEPEST):
        if current is None:
            return
        yield current
        current = current.parent


def source_text(node: Node | None) -> str:
    """A node's source text."""
    return (node.text or b"").decode("utf-8", "replace") if node is not None else ""


def string_value(node: Node | None) -> str | None:
    """The value of a text literal without anything computed in it; None for any other node."""
    if node is None or node.type not in _STRINGS:
        return None
    if any(
        child.type in ("template_substitution", "interpolation", "variable_name") for child in node.children
    ):
        return None
    return source_text(node)[1:-1]


def literal(node: Node | None) -> str | None:
    """A literal as a settings file would hold it; None for nothing; the source text of anything else."""
    if node is None:
        return None
    text = string_value(node)
    if text is not None:
        return text
    if node.type in ("null", "undefined", "nil"):
        return None
    if node.type in THROUGH and node.named_child_count == 1:
        return literal(node.named_children[0])
    return source_text(node)[:80]


def arguments_of(call: Node) -> list[Node]:
    """A call's arguments, unwrapped."""
    value = call.child_by_field_name("arguments")
    if value is None:
        return []
    return [
        one.named_children[-1] if one.type == "argument" and one.named_children else one
        for one in value.named_children
        if one.type != "comment"
    ]


def called(call: Node) -> str:
    """The name of what is called: ``a.b`` with a receiver."""
    function = call.child_by_field_name("function")
    if function is not None:
        return source_text(function)
    method = source_text(call.child_by_field_name("method") or call.child_by_field_name("name"))
    receiver = call.child_by_field_name("receiver") or call.child_by_field_name("object")
    receiver = receiver or call.child_by_field_name("scope")
    return f"{source_text(receiver)}.{method}" if receiver is not None else method
