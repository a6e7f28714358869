"""Schemas that check the environment as a whole: each key with a type, a default, whether it is needed."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import TYPE_CHECKING

from plainfall.patterns import regex
from plainfall.sources.context import Context, use_of
from plainfall.sources.trees import Source, arguments_of, literal, source_text
from plainfall.sources.values import Use

if TYPE_CHECKING:
    from tree_sitter import Node

__all__ = ["schema_uses"]

_OBJECT = regex(r"\b(z\.object|[Jj]oi\.object|v\.object|cleanEnv|createEnv|yup\.object|object\(\)\.keys)\b")
_TYPES = (
    (r"\bnumber\(|\bnum\(|\bport\(|\binteger\(|coerce\.number", "number"),
    (r"\bbool(ean)?\(|coerce\.boolean|stringbool\(", "boolean"),
    (r"\.url\(|\burl\(|\.uri\(|\bmakeUrl\(", "address"),
    (r"\bjson\(", "json"),
    (r"\barray\(|\.split\(", "list"),
)


def schema_uses(source: Source) -> Iterator[Use]:
    """The keys of such schemas; only upper-case keys count, since other objects are checked the same way."""
    for result, node in source.places(_OBJECT):
        call = node
        while call.parent is not None and call.type != "call_expression":
            call = call.parent
        if call.type != "call_expression":
            continue
        optional_by_default = "oi" in result.group(1) or "yup" in result.group(1)
        for given in arguments_of(call):
            if given.type == "object":
                yield from _pairs(source, given, optional_by_default)


def _pairs(source: Source, node: Node, optional_by_default: bool) -> Iterator[Use]:
    for pair in node.named_children:
        if pair.type != "pair":
            continue
        key = source_text(pair.child_by_field_name("key")).strip("'\"")
        value = pair.child_by_field_name("value")
        if value is None:
            continue
        if value.type == "object" and key in ("server", "client", "shared"):
            yield from _pairs(source, value, optional_by_default)
        elif re.fullmatch(r"[A-Z][A-Z0-9_]+", key) and value.type == "call_expression":
            yield use_of(source, pair, key, _wanted(value, optional_by_default))


def _wanted(value: Node, optional_by_default: bool) -> Context:
    text = source_text(value)
    default = _default(value)
    if optional_by_default:
        needed = ".required(" in text
    else:
        needed = not re.search(r"\.(optional|nullish|nullable|catch)\(", text)
    kind = next((name for pattern, name in _TYPES if re.search(pattern, text)), "text")
    length = re.search(r"\.(min|length)\(\s*(\d+)", text) if kind == "text" else None
    form = "hex" if re.search(r"\.hex\(", text) else "base64" if re.search(r"\.base64\(", text) else ""
    return Context(
        default,
        kind,
        needed and default is None,
        form,
        int(length.group(2)) if length else 0,
        length is not None and length.group(1) == "length",
    )


def _default(value: Node) -> str | None:
    """The argument of ``.default(…)``, or the option ``default`` of a checker."""
    node: Node | None = value
    while node is not None and node.type == "call_expression":
        function = node.child_by_field_name("function")
        given = arguments_of(node)
        name = source_text(function).rpartition(".")[2]
        if name in ("default", "prefault") and given:
            return literal(given[0])
        for one in given:
            if one.type == "object":
                for pair in one.named_children:
                    if source_text(pair.child_by_field_name("key")) in ("default", "devDefault"):
                        return literal(pair.child_by_field_name("value"))
        node = function.child_by_field_name("object") if function is not None else None
    return None
