"""PHP configuration files: returned arrays, assigned elements, ``define``; with the place of each value."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import TYPE_CHECKING

from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.formats.entries import Entry, comment_above

if TYPE_CHECKING:
    from tree_sitter import Node

    from plainfall.sources.trees import Source

__all__ = ["php_entries"]

_SCALARS = frozenset("string encapsed_string integer float boolean null".split())


def php_entries(text: str, path: str) -> Iterator[Entry]:
    """Every scalar. Raises BadInput for a file that is no PHP."""
    from plainfall.sources.trees import Source

    source = Source(text, path, "tree_sitter_php:language_php")
    if source.root.has_error:
        raise BadInput(
            "it is not PHP that can be read",
            place=Evidence(path, _first_error(source.root)),
            remedy="Mend that line, or restore the file from version control.",
        )
    lines = text.splitlines()
    waiting = [source.root]
    while waiting:
        node = waiting.pop(0)
        if node.type == "return_statement" and node.named_children:
            yield from _array(source, node.named_children[0], "", lines)
        elif node.type == "assignment_expression":
            yield from _assigned(source, node, lines)
        elif node.type == "function_call_expression":
            yield from _defined(source, node, lines)
        elif node.type in ("program", "expression_statement"):
            waiting[:0] = node.named_children


def _first_error(node: Node) -> int:
    while True:
        inner = next((one for one in node.children if one.has_error or one.is_missing), None)
        if inner is None:
            return node.start_point[0] + 1
        node = inner


def _array(source: Source, node: Node, prefix: str, lines: list[str]) -> Iterator[Entry]:
    from plainfall.sources.trees import string_value

    if node.type != "array_creation_expression":
        return
    for element in node.named_children:
        if element.type != "array_element_initializer" or len(element.named_children) != 2:
            continue
        key, value = element.named_children
        name = string_value(key)
        if name is not None:
            yield from _value(source, value, prefix + name, lines)


def _value(source: Source, value: Node, name: str, lines: list[str]) -> Iterator[Entry]:
    from plainfall.sources.trees import literal, string_value

    if value.type == "array_creation_expression":
        elements = [one.named_children for one in value.named_children]
        if elements and all(len(one) == 1 and one[0].type in _SCALARS for one in elements):
            joined = ",".join(literal(one[0]) or "" for one in elements)
            line = value.start_point[0] + 1
            yield Entry(name, joined, line, comment_above(lines, line), -1, -1)
        else:
            yield from _array(source, value, f"{name}.", lines)
    elif value.type in _SCALARS:
        line = value.start_point[0] + 1
        text = string_value(value)
        content = text if text is not None else (literal(value) or "")
        start = len(source.data[: value.start_byte].decode())
        end = len(source.data[: value.end_byte].decode())
        if source.text[start : start + 1] == "'":
            content = re.sub(r"\\([\\'])", r"\1", content)
        yield Entry(name, content, line, comment_above(lines, line), start, end)


def _assigned(source: Source, node: Node, lines: list[str]) -> Iterator[Entry]:
    """``$config["db"]["host"] = "…"`` and ``$config = [ … ]``."""
    from plainfall.sources.trees import string_value

    left, right = node.child_by_field_name("left"), node.child_by_field_name("right")
    if left is None or right is None:
        return
    keys: list[str] = []
    while left.type == "subscript_expression" and len(left.named_children) == 2:
        key = string_value(left.named_children[1])
        if key is None:
            return
        keys.insert(0, key)
        left = left.named_children[0]
    if keys:
        yield from _value(source, right, ".".join(keys), lines)
    elif right.type == "array_creation_expression":
        yield from _array(source, right, "", lines)


def _defined(source: Source, node: Node, lines: list[str]) -> Iterator[Entry]:
    from plainfall.sources.trees import arguments_of, source_text, string_value

    given = arguments_of(node)
    if source_text(node.child_by_field_name("function")) == "define" and len(given) == 2:
        name = string_value(given[0])
        if name:
            yield from _value(source, given[1], name, lines)
