"""What the code around a read does with its value: a default, a conversion, a test that stops the program."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import TYPE_CHECKING

from msgspec import Struct, field

from plainfall.patterns import regex
from plainfall.sources.names import looks_secret
from plainfall.sources.trees import THROUGH, Source, above, arguments_of, called, literal, source_text
from plainfall.sources.values import Use

if TYPE_CHECKING:
    from tree_sitter import Node

__all__ = ["Context", "Grammar", "context_of", "use_of"]

_SCOPES = frozenset("statement_block program compound_statement body_statement method".split())
_CALLBACKS = frozenset("arrow_function function_expression block do_block anonymous_function".split())
_LENGTH = regex(r"\.(length|size|bytesize)\b|strlen\(")
_TRUTHS = regex(r"""^['"]?(true|false|1|0|yes|no|on|off)['"]?$""", re.IGNORECASE)
_ASSERTS = regex(r"^(console\.)?(assert(\.\w+)?|invariant|assertDefined|ensure)$")


class Grammar(Struct, frozen=True):
    """What a language's tree calls things. ``converters`` maps function and method names to types,
    ``stops_on_nothing`` are those that fail when they are given nothing, ``safe_methods`` those that an
    absent value answers too; ``short_ternary`` is the field that a conditional without its middle lacks;
    ``stop`` matches code that ends the program; ``if_types`` are the nodes with a
    condition, ``inverted`` those that run where it does not hold."""

    default_operators: frozenset[str]
    converters: Mapping[str, str]
    stops_on_nothing: frozenset[str]
    stop: re.Pattern[str]
    if_types: frozenset[str]
    inverted: frozenset[str] = frozenset()
    safe_methods: frozenset[str] = frozenset()
    short_ternary: str = "consequence"
    forms: Mapping[str, str] = field(default_factory=dict)
    absent_member_stops: bool = True


class Context(Struct):
    """What was learned of one read on the way out of its expression."""

    default: str | None = None
    type: str = "text"
    needed: bool = False
    form: str = ""
    length: int = 0
    exact: bool = False


_FARTHEST = 40  # steps out of an expression; more is not written by people


def context_of(source: Source, grammar: Grammar, node: Node, start: Context) -> Context:
    """What the code around a read does with it, on top of what is known of the read itself."""
    context, inner = start, node
    for _ in range(_FARTHEST):
        outer = inner.parent
        if outer is None:
            break
        kind = outer.type
        if kind in THROUGH:
            pass
        elif kind == "non_null_expression":
            context.needed = context.needed or context.default is None
        elif kind in ("binary_expression", "binary"):
            if not _binary(grammar, context, outer, inner):
                break
        elif kind in ("conditional_expression", "ternary_expression", "conditional"):
            if outer.child_by_field_name("condition") != inner:
                pass
            elif outer.child_by_field_name(grammar.short_ternary) is None:
                context.default = literal(outer.child_by_field_name("alternative"))
                context.needed = False
            else:
                context.default = context.default or literal(outer.child_by_field_name("alternative"))
                break
        elif kind == "cast_expression":
            cast = source_text(outer.child_by_field_name("type"))
            context.type = {"int": "number", "float": "number", "bool": "boolean", "array": "list"}.get(
                cast, context.type
            )
        elif kind == "unary_expression" and source_text(outer)[:1] == "+":
            context.type = "number"
        elif kind in ("arguments", "argument_list") and outer.parent is not None:
            if not _converted(grammar, context, outer.parent):
                break
            inner = outer.parent
            continue
        elif kind == "member_expression" and outer.child_by_field_name("object") == inner:
            call = outer.parent
            if call is None or call.type != "call_expression":
                break
            _method(
                grammar,
                context,
                source_text(outer.child_by_field_name("property")),
                "?." in source_text(outer),
            )
            inner = call
            continue
        elif kind == "call" and outer.child_by_field_name("receiver") == inner:
            operator = source_text(outer.child_by_field_name("operator"))
            _method(grammar, context, source_text(outer.child_by_field_name("method")), operator == "&.")
        else:
            break
        inner = outer
    if not context.needed and context.default is None:
        context.needed = _guarded(source, grammar, node, inner)
    if not context.length:
        context.length, context.exact = _demanded_length(source, inner)
    return context


def _binary(grammar: Grammar, context: Context, outer: Node, inner: Node) -> bool:
    """Goes through a binary expression; whether the way out goes on."""
    operator = source_text(outer.child_by_field_name("operator"))
    right = outer.child_by_field_name("right")
    if operator in grammar.default_operators and outer.child_by_field_name("left") == inner:
        if grammar.stop.search(source_text(right)):
            context.needed = True
            return False
        context.default = literal(right) if context.default is None else context.default
        context.needed = False
        return True
    if operator in ("==", "===", "!=", "!==") and right is not None:
        if _TRUTHS.match(source_text(right)):
            context.type = "boolean"
        return context.type == "boolean"
    return operator in grammar.default_operators


def _converted(grammar: Grammar, context: Context, call: Node) -> bool:
    name = (
        called(call)
        if call.type != "new_expression"
        else source_text(call.child_by_field_name("constructor"))
    )
    last = re.split(r"\.|::|->", name)[-1]
    arguments = [source_text(one).strip("'\"") for one in arguments_of(call)]
    form = grammar.forms.get(name) or grammar.forms.get(last)
    if name == "Buffer.from" and arguments[1:2] in (["hex"], ["base64"]):
        form = arguments[1]
    if form:
        context.form = form
        context.needed = context.needed or context.default is None
    if _ASSERTS.match(name):
        context.needed = context.default is None
        return False
    kind = grammar.converters.get(name)
    if kind is None:
        return bool(form)
    context.type = kind
    if name in grammar.stops_on_nothing and context.default is None:
        context.needed = True
    return True


def _method(grammar: Grammar, context: Context, method: str, optional: bool) -> None:
    context.type = grammar.converters.get(f".{method}", context.type)
    if (
        grammar.absent_member_stops
        and not optional
        and context.default is None
        and method not in grammar.safe_methods
    ):
        context.needed = True


def _guarded(source: Source, grammar: Grammar, node: Node, whole: Node) -> bool:
    """Whether the code stops where the read gives nothing: tested right there, or by the name that it is
    assigned to."""
    for outer in above(node):
        if outer.type in grammar.if_types:
            condition = outer.child_by_field_name("condition")
            if condition is not None and condition.start_byte <= node.start_byte < condition.end_byte:
                return _stops_without(grammar, outer, condition, source_text(node))
            break
        if outer.type.endswith("_statement") and outer.type != "expression_statement":
            break
    name = assigned_name(whole)
    if not name:
        return False
    if _or_stops(grammar, whole):
        return True
    gathered = re.compile(
        rf"^\(?\s*(count\()?{re.escape(name)}\)?(\.length|\.any\?)?\s*(>\s*0|!==?\s*0)?\s*\)?$"
    )
    for statement in source.conditions(grammar.if_types):
        if statement.end_byte < whole.end_byte:
            continue
        condition = statement.child_by_field_name("condition")
        if condition is not None and _stops_without(grammar, statement, condition, name):
            return True
        if (
            condition is not None
            and gathered.match(source_text(condition))
            and _in_callback(node, whole)
            and grammar.stop.search(source_text(statement))
        ):
            return True
    return False


def _or_stops(grammar: Grammar, whole: Node) -> bool:
    """``name = read or stop``, where "or" binds weaker than the assignment."""
    assigned = whole.parent
    outer = assigned.parent if assigned is not None else None
    return (
        outer is not None
        and outer.type in ("binary_expression", "binary")
        and source_text(outer.child_by_field_name("operator")) in ("or", "||")
        and grammar.stop.search(source_text(outer.child_by_field_name("right"))) is not None
    )


def _in_callback(node: Node, whole: Node) -> bool:
    """Whether the read stands in a function that was handed over (``names.filter(…)``), and so what is
    assigned is a list of what is missing."""
    for current in above(node):
        if current == whole:
            return False
        if current.type in (
            "arrow_function",
            "function_expression",
            "block",
            "do_block",
            "anonymous_function",
        ):
            return True
    return False


def assigned_name(node: Node) -> str:
    """The name that a node (or the expression around it) is assigned to, as it is written; "" for none."""
    for outer in above(node):
        if outer.type in _SCOPES:
            return ""
        if outer.type in ("variable_declarator", "assignment_expression", "assignment"):
            left = outer.child_by_field_name("name") or outer.child_by_field_name("left")
            return source_text(left)
    return ""


def _stops_without(grammar: Grammar, statement: Node, condition: Node, name: str) -> bool:
    """Whether a condition holds where the named value is absent, and its body stops the program."""
    body = statement.child_by_field_name("consequence") or statement.child_by_field_name("body")
    if body is None or not grammar.stop.search(source_text(body)):
        return False
    text = re.sub(r"\s+", " ", source_text(condition)).strip()
    text = text[1:-1] if text.startswith("(") and text.endswith(")") else text
    quoted = re.escape(name)
    if statement.type in grammar.inverted:
        return re.search(rf"(^|\W){quoted}(\.present\?)?\s*(&&|and|$)", text) is not None
    negative = (
        rf"(!|\bnot )\s*{quoted}(?![\w.\[(])|{quoted}\s*===?\s*(null|undefined|false|nil|''|\"\")|"
        rf"typeof {quoted}\s*===?\s*['\"]undefined|(empty|is_null|!isset)\(\s*{quoted}\s*\)|"
        rf"!\s*isset\(\s*{quoted}|{quoted}\.(nil|blank|empty)\?|{quoted}\.to_s\.empty\?|"
        rf"(null|undefined|false)\s*===?\s*{quoted}"
    )
    return re.search(negative, text) is not None


def _demanded_length(source: Source, whole: Node) -> tuple[int, bool]:
    """The length that code demands of what the read is assigned to, and whether just that one."""
    if source.demands_lengths is None:
        source.demands_lengths = _LENGTH.search(source.text) is not None
    name = assigned_name(whole) if source.demands_lengths else ""
    if not re.fullmatch(r"[\w.$@]+", name):
        return 0, False
    quoted = re.escape(name)
    match = re.search(
        rf"(?<![\w.$@])(?:{quoted}\.(?:length|size|bytesize)|strlen\({quoted}\))\s*(<=?|!==?)\s*(\d+)",
        source.text,
    )
    if not match:
        return 0, False
    return int(match.group(2)) + (match.group(1) == "<="), match.group(1).startswith("!")


def use_of(source: Source, node: Node, key: str, context: Context, file: str = "") -> Use:
    """The use that a context comes to."""
    hidden = context.form or looks_secret(key)
    place = source.place(node, context.default if hidden else None)
    return Use(
        key,
        place,
        context.default,
        context.type,
        context.needed,
        context.form,
        context.length,
        file,
        exact=context.exact,
    )
