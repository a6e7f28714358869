"""Ruby as a tree: texts of nodes, calls with their arguments, values that need not be run to be known."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from plainfall.sources.trees import Source as Parsed

if TYPE_CHECKING:
    from tree_sitter import Node

__all__ = ["arguments", "first_error", "method", "text_of"]


def text_of(parsed: Parsed, node: Node) -> str:
    """A node as it is written."""
    return parsed.data[node.start_byte : node.end_byte].decode("utf-8", "replace")


def method(parsed: Parsed, node: Node) -> str:
    """The name of the method that a call calls."""
    named = node.child_by_field_name("method")
    return text_of(parsed, named) if named is not None else ""


def first_error(node: Node) -> Node:
    """The first node that is no Ruby, of one that holds such."""
    for child in node.children:
        if child.type == "ERROR" or child.is_missing:
            return child
        if child.has_error:
            return first_error(child)
    return node


def arguments(parsed: Parsed, node: Node) -> tuple[list[Any] | None, dict[str, Any]]:
    """The values in order (None where one is not plain), and the named ones (None for what is not plain)."""
    listed = node.child_by_field_name("arguments")
    values: list[Any] | None = []
    options: dict[str, Any] = {}
    for child in listed.named_children if listed is not None else ():
        if child.type == "pair":
            key, value = child.child_by_field_name("key"), child.child_by_field_name("value")
            name = text_of(parsed, key).strip(":\"'") if key is not None else ""
            options[name] = _value(parsed, value) if value is not None else None
        elif child.type == "hash":
            for pair in child.named_children:
                key, value = pair.child_by_field_name("key"), pair.child_by_field_name("value")
                if key is not None and value is not None:
                    options[text_of(parsed, key).strip(":\"'")] = _value(parsed, value)
        elif child.type not in ("comment", "block_argument"):
            value = _value(parsed, child)
            if value is None or values is None:
                values = None
            else:
                values += value if isinstance(value, list) else [value]
    return values, options


def _value(parsed: Parsed, node: Node) -> Any:
    """Texts, symbols, numbers, truths and lists of them as values; None for what is not plain."""
    text = text_of(parsed, node)
    if node.type == "string":
        if any(child.type == "interpolation" for child in node.named_children):
            return None
        return "".join(text_of(parsed, child) for child in node.named_children)
    if node.type in ("simple_symbol", "hash_key_symbol"):
        return text.strip(":")
    if node.type in ("true", "false"):
        return text == "true"
    if node.type in ("integer", "float"):
        return text
    if node.type == "nil":
        return False
    if node.type in ("string_array", "symbol_array"):
        return [text_of(parsed, child) for child in node.named_children]
    if node.type == "array":
        found = [_value(parsed, child) for child in node.named_children]
        return None if any(one is None for one in found) else found
    return None
