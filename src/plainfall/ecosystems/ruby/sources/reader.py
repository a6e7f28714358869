"""What Ruby sources read of their environment, and of files that they load."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import TYPE_CHECKING

from plainfall.patterns import regex
from plainfall.sources.context import Context, Grammar, context_of, use_of
from plainfall.sources.names import FILE_NAME, constant_kind
from plainfall.sources.trees import Source, arguments_of, literal, source_text, string_value
from plainfall.sources.values import Constant, FileFound, Load, Use

if TYPE_CHECKING:
    from tree_sitter import Node

__all__ = ["read_ruby"]

_GRAMMAR = Grammar(
    default_operators=frozenset({"||", "or"}),
    converters={
        "Integer": "number",
        "Float": "number",
        "JSON.parse": "json",
        "URI.parse": "address",
        "URI": "address",
        "Pathname.new": "path",
        ".to_i": "number",
        ".to_f": "number",
        ".split": "list",
    },
    stops_on_nothing=frozenset({"Integer", "Float", "JSON.parse", "URI.parse", "URI", "Pathname.new"}),
    stop=regex(r"\b(raise|abort|exit!?|fail)\b"),
    if_types=frozenset({"if", "unless", "if_modifier", "unless_modifier"}),
    inverted=frozenset({"unless", "unless_modifier"}),
    safe_methods=frozenset(
        "to_i to_s to_f to_a nil? present? blank? presence inspect is_a? == != ! then tap try".split()
    ),
    forms={"Base64.decode64": "base64", "Base64.strict_decode64": "base64"},
)
_ENV = regex(r"(?<![\w:.])((?:::)?ENV)(?=\s*[\[.&])")
_REQUIRE_KEYS = regex(r"\b(Dotenv\.require_keys)\b")
_MODE = regex(r"(\.env\.)#\{[^{}\n]{1,120}\}")
_LOADER = regex(r"\b(Dotenv(?:\.|::)\w*(?:load|overload)!?|load_file|File\.read|File\.join|require|open)\b")
_TEXTS = regex(r"['\"]([\w./@ -]*(?:env(?:\.[\w.-]+)?|\.(?:ya?ml|toml|json|ini|conf)))['\"]")
_CONSTANT = regex(r"^[ \t]*([A-Z][A-Z0-9_]*)\s*=\s*['\"\d]", re.MULTILINE)


def read_ruby(text: str, path: str) -> FileFound:
    """What a Ruby source says."""
    source = Source(text, path, "tree_sitter_ruby:language")
    # A file's name that holds the mode is the one of development.
    loading = (
        Source(_MODE.sub(r"\1development", text), path, "tree_sitter_ruby:language")
        if "#{" in text
        else source
    )
    uses = [*_uses(source), *_required(source), *_document_uses(source)]
    return FileFound(tuple(uses), tuple(_loads(loading)), tuple(_constants(source)), source.cut)


def _use(source: Source, node: Node, key: str, start: Context) -> Use:
    return use_of(source, node, key, context_of(source, _GRAMMAR, node, start))


def _uses(source: Source) -> Iterator[Use]:
    for _, node in source.places(_ENV):
        outer = node.parent
        if outer is not None and outer.type == "scope_resolution":
            node, outer = outer, outer.parent
        if outer is None:
            continue
        if outer.type == "element_reference":
            index = outer.named_children[-1]
            written = outer.parent
            if written is not None and written.type in ("assignment", "operator_assignment"):
                left = written.child_by_field_name("left")
                if left == outer:
                    operator = source_text(written.child_by_field_name("operator"))
                    key = string_value(index)
                    if operator == "||=" and key:
                        yield use_of(
                            source, outer, key, Context(literal(written.child_by_field_name("right")))
                        )
                    continue
            for key in _keys(index):
                yield _use(source, outer, key, Context())
        elif outer.type == "call" and source_text(outer.child_by_field_name("method")) in ("fetch", "dig"):
            given = arguments_of(outer)
            default = literal(given[1]) if len(given) > 1 else None
            block = outer.child_by_field_name("block")
            if block is not None:
                default = source_text(block).strip("{} \n") if default is None else default
                inner = block.child_by_field_name("body")
                if inner is not None and inner.named_child_count == 1:
                    default = literal(inner.named_children[0])
            raises = block is not None and _GRAMMAR.stop.search(source_text(block)) is not None
            for key in _keys(given[0]) if given else []:
                fetched = source_text(outer.child_by_field_name("method")) == "fetch"
                start = Context(None if raises else default, needed=fetched and (default is None or raises))
                yield _use(source, outer, key, start)
        elif outer.type == "call" and source_text(outer.child_by_field_name("method")) in (
            "key?",
            "has_key?",
            "include?",
        ):
            given = arguments_of(outer)
            for key in _keys(given[0]) if given else []:
                yield _use(source, outer, key, Context())


def _keys(index: Node) -> list[str]:
    """The keys that an index can be: a literal, or each of those that a block runs over."""
    key = string_value(index)
    if key is not None:
        return [key]
    if index.type != "identifier":
        return []
    node, name = index.parent, source_text(index)
    while node is not None:
        if node.type in ("block", "do_block") and node.parent is not None:
            taken = source_text(node.child_by_field_name("parameters")).strip("|")
            listed = node.parent.child_by_field_name("receiver")
            if taken == name and listed is not None:
                return _list_of(listed)
        node = node.parent
    return []


def _list_of(node: Node) -> list[str]:
    if node.type == "string_array":
        return [source_text(one) for one in node.named_children]
    if node.type == "array":
        return [value for one in node.named_children if (value := string_value(one)) is not None]
    if node.type in ("constant", "identifier"):
        root = node
        while root.parent is not None:
            root = root.parent
        for one in root.named_children:
            if one.type == "assignment" and source_text(one.child_by_field_name("left")) == source_text(node):
                content = one.child_by_field_name("right")
                if content is not None and content.type == "call":
                    content = content.child_by_field_name("receiver")
                return _list_of(content) if content is not None else []
    return []


def _required(source: Source) -> Iterator[Use]:
    for _, node in source.places(_REQUIRE_KEYS):
        call: Node | None = node
        while call is not None and call.type != "call":
            call = call.parent
        for one in arguments_of(call) if call is not None else []:
            key = string_value(one)
            if key:
                yield use_of(source, one, key, Context(needed=True))


def _loads(source: Source) -> Iterator[Load]:
    for result, node in source.places(_LOADER):
        row = source.text.rfind("\n", 0, result.start()) + 1
        end = source.text.find("\n", result.end())
        line = source.text[row : end if end >= 0 else len(source.text)]
        named = False
        for text in _TEXTS.finditer(line):
            if FILE_NAME.match(text.group(1)):
                named = True
                is_relative = "__dir__" in line or "__FILE__" in line
                yield Load(text.group(1).lstrip("/"), "file" if is_relative else "", source.place(node))
        if not named and (result.group(1).startswith("Dotenv") or "dotenv/load" in line):
            yield Load(".env", "", source.place(node))


def _document_uses(source: Source) -> Iterator[Use]:
    """Lookups in a name that holds a loaded file."""
    pattern = re.compile(
        r"^[ \t]*(@{0,2}\w+)\s*=\s*(?:YAML|JSON|Psych|TOML|TomlRB|IniFile)\b[^\n]*?"
        r"['\"]([\w./-]+\.(?:ya?ml|json|toml|ini))['\"]",
        re.MULTILINE,
    )
    for match in pattern.finditer(source.text):
        name, file = match.groups()
        for _, mention in source.places(re.compile(rf"(?<![\w@.])({re.escape(name)})(?=\s*[\[.&])")):
            node, keys, needed, default = mention, [], False, None
            while (outer := node.parent) is not None:
                if outer.type == "element_reference" and outer.named_children[0] == node:
                    given = [outer.named_children[-1]]
                elif outer.type == "call" and outer.child_by_field_name("receiver") == node:
                    method = source_text(outer.child_by_field_name("method"))
                    if method not in ("fetch", "dig"):
                        break
                    given = arguments_of(outer)
                    if method == "fetch":
                        default = literal(given[1]) if len(given) > 1 else None
                        needed = default is None
                        given = given[:1]
                else:
                    break
                read = [_plain(one) for one in given]
                if not all(read):
                    break
                keys += [key for key in read if key]
                node = outer
            if keys:
                context = context_of(source, _GRAMMAR, node, Context(default, needed=needed))
                yield use_of(source, node, ".".join(keys), context, file=file.removeprefix("./"))


def _plain(node: Node) -> str | None:
    """A text or a symbol."""
    return source_text(node)[1:] if node.type == "simple_symbol" else string_value(node)


def _constants(source: Source) -> Iterator[Constant]:
    for result, node in source.places(_CONSTANT):
        declared = node.parent
        value = declared.child_by_field_name("right") if declared is not None else None
        if value is None or declared is None or declared.type != "assignment":
            continue
        text = string_value(value)
        if text is None and value.type != "integer":
            continue
        given = text if text is not None else int(source_text(value)) if source_text(value).isdigit() else 0
        kind = constant_kind(result.group(1), given)
        if kind:
            yield Constant(result.group(1), str(given), kind, source.place(node))
