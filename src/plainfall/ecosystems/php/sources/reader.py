"""What PHP sources read of their environment, and of arrays that they load."""

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

__all__ = ["read_php"]

_GRAMMAR = Grammar(
    short_ternary="body",
    default_operators=frozenset({"??", "?:", "||", "or"}),
    converters={
        "intval": "number",
        "floatval": "number",
        "boolval": "boolean",
        "filter_var": "boolean",
        "json_decode": "json",
        "explode": "list",
        "rtrim": "text",
        "trim": "text",
        "strtolower": "text",
    },
    stops_on_nothing=frozenset(),
    stop=regex(r"\bthrow\b|\bexit\b|\bdie\b|\babort\("),
    if_types=frozenset({"if_statement"}),
    forms={"hex2bin": "hex", "base64_decode": "base64", "sodium_hex2bin": "hex"},
    absent_member_stops=False,
)
_CALL = regex(r"(?<![\w$>])((?:Env::)?(?:env|getenv|get|getOrFail))(?=\s*\()")
_ARRAY = regex(r"(\$_ENV|\$_SERVER)(?=\s*\[)")
_REQUIRED = regex(r"->(required|ifPresent)(?=\s*\()")
_LOADER = regex(
    r"\b(?:Dotenv::create\w*|new\s+Dotenv|bootEnv|loadEnv|->load|parse_ini_file|parseFile|file_get_contents|"
    r"require(?:_once)?|include(?:_once)?)\b"
)
_DOTENV = regex(r"\bDotenv::create\w*\(\s*([^;]*?)\)\s*(?:->|;)")
_TEXTS = regex(r"['\"]([\w./@ -]*(?:env(?:\.[\w.-]+)?|\.(?:ya?ml|toml|json|ini|php)))['\"]")
_CONSTANT = regex(
    r"\bconst\s+(?:\w+\s+)?([A-Z_]\w*)\s*=|\bdefine\(\s*['\"](\w+)['\"]\s*,|^[ \t]*(\$\w+)\s*=\s*['\"\d]",
    re.MULTILINE,
)
_INCLUDED = regex(
    r"^[ \t]*(?:require|include)(?:_once)?\b[^;='\"]*"
    r"['\"]/?([\w./-]*(?:config|settings|local|params)[\w.-]*\.php)['\"]",
    re.MULTILINE,
)
_HOLDERS = regex(r"(\$(?:config|cfg|conf|settings|options|params|CFG|CONFIG))(?=\s*\[)")


def read_php(text: str, path: str) -> FileFound:
    """What a PHP source says."""
    source = Source(text, path, "tree_sitter_php:language_php")
    uses = [*_calls(source), *_arrays(source), *_required(source), *_document_uses(source)]
    return FileFound(tuple(uses), tuple(_loads(source)), tuple(_constants(source)), source.cut)


def _use(source: Source, node: Node, key: str, start: Context) -> Use:
    return use_of(source, node, key, context_of(source, _GRAMMAR, node, start))


def _calls(source: Source) -> Iterator[Use]:
    """``env("KEY", default)``, ``getenv("KEY")``, ``Env::get("KEY")``; and functions around them."""
    for result, node in source.places(_CALL):
        name = result.group(1)
        if name in ("get", "getOrFail"):
            continue
        call: Node | None = node
        while call is not None and call.type not in ("function_call_expression", "scoped_call_expression"):
            call = call.parent
        if call is None or call.start_byte != node.start_byte:
            continue
        given = arguments_of(call)
        key = string_value(given[0]) if given else None
        default = literal(given[1]) if len(given) > 1 and name != "getenv" else None
        if key is not None:
            yield _use(source, call, key, Context(default, needed=name == "Env::getOrFail"))
        elif given and given[0].type == "variable_name":
            for key in _looped(given[0]):
                yield _use(source, call, key, Context())
            yield from _by_helper(source, call, source_text(given[0]))


def _arrays(source: Source) -> Iterator[Use]:
    for result, node in source.places(_ARRAY):
        entire = node
        while entire.parent is not None and entire.type != "subscript_expression":
            entire = entire.parent
        if entire.type != "subscript_expression" or len(entire.named_children) < 2:
            continue
        outer = entire.parent
        if outer is not None and outer.type == "assignment_expression":
            left = outer.child_by_field_name("left")
            if left == entire:
                continue
        index = entire.named_children[1]
        key = string_value(index)
        server = result.group(1) == "$_SERVER"
        if key is not None and not (server and key.startswith(("REQUEST_", "HTTP_", "REMOTE_", "SERVER_"))):
            yield _use(source, entire, key, Context())
        elif index.type == "variable_name":
            for key in _looped(index):
                yield _use(source, entire, key, Context())
            yield from _by_helper(source, entire, source_text(index))


def _required(source: Source) -> Iterator[Use]:
    """``$dotenv->required(["KEY", …])``."""
    for result, node in source.places(_REQUIRED):
        call: Node | None = node
        while call is not None and call.type != "member_call_expression":
            call = call.parent
        if call is None or result.group(1) != "required":
            continue
        for given in arguments_of(call)[:1]:
            elements = given.named_children if given.type == "array_creation_expression" else [given]
            for one in elements:
                key = string_value(one.named_children[0] if one.type == "array_element_initializer" else one)
                chain = source_text(call.parent.parent) if call.parent and call.parent.parent else ""
                kind = "number" if "isInteger" in chain else "boolean" if "isBoolean" in chain else "text"
                if key:
                    yield use_of(source, one, key, Context(None, kind, needed=True))


def _looped(variable: Node) -> list[str]:
    """The texts that a ``foreach`` over a literal list gives its variable."""
    node, name = variable.parent, source_text(variable)
    while node is not None:
        if node.type == "foreach_statement" and len(node.named_children) >= 2:
            listed, taken = node.named_children[0], node.named_children[1]
            if source_text(taken) == name and listed.type == "array_creation_expression":
                values = [string_value(one.named_children[-1]) for one in listed.named_children]
                return [value for value in values if value is not None]
        node = node.parent
    return []


def _by_helper(source: Source, read: Node, name: str) -> Iterator[Use]:
    """Calls of a function that looks its own argument up."""
    node = read.parent
    while node is not None and node.type not in ("function_definition", "method_declaration"):
        node = node.parent
    taken = node.child_by_field_name("parameters") if node is not None else None
    if node is None or taken is None:
        return
    names = [source_text(one.child_by_field_name("name")) for one in taken.named_children]
    function = source_text(node.child_by_field_name("name"))
    if name not in names:
        return
    position = names.index(name)
    stops = _GRAMMAR.stop.search(source_text(node)) is not None
    for _, mention in source.places(re.compile(rf"(?<![\w$])(?<!function )({re.escape(function)})(?=\s*\()")):
        call = mention.parent
        if call is None or not call.type.endswith("call_expression"):
            continue
        given = arguments_of(call)
        key = string_value(given[position]) if len(given) > position else None
        if key is not None:
            default = literal(given[position + 1]) if len(given) > position + 1 else None
            yield _use(source, call, key, Context(default, needed=stops and default is None))


def _loads(source: Source) -> Iterator[Load]:
    for match, node in source.places(_LOADER):
        row = source.text.rfind("\n", 0, match.start()) + 1
        end = source.text.find(";", match.end())
        statement = source.text[row : end if end >= 0 else len(source.text)]
        for text in _TEXTS.finditer(statement):
            name = text.group(1)
            if FILE_NAME.match(name) and not name.endswith(("autoload.php", ".html.php")):
                is_relative = "__DIR__" in statement or "dirname(" in statement
                yield Load(name.lstrip("/"), "file" if is_relative else "", source.place(node))
    for match in _DOTENV.finditer(source.text):
        if not _TEXTS.search(match.group(0)):
            line = source.text.count("\n", 0, match.start())
            start = source.root.descendant_for_point_range((line, 0), (line, 1))
            up = re.search(r"['\"](/?(?:\.\./?)+)['\"]|dirname\(__DIR__\)", match.group(0))
            if start is not None:
                yield Load("../.env" if up else ".env", "file", source.place(start))


def _document_uses(source: Source) -> Iterator[Use]:
    """Lookups in a variable that holds a loaded file."""
    pattern = re.compile(
        r"(\$\w+)\s*=\s*[^;]*?(?:require(?:_once)?|include(?:_once)?|parse_ini_file|parseFile|file_get_contents)\b"
        r"[^;'\"]*['\"]([\w./-]+\.(?:php|ini|json|ya?ml|toml))['\"]"
    )
    value = [match.groups() for match in pattern.finditer(source.text)]
    # A file that is included by itself brings its own variables, of which these are the usual names.
    for match in _INCLUDED.finditer(source.text):
        for name in _HOLDERS.findall(source.text):
            if not re.search(rf"{re.escape(name)}\s*=[^=>]", source.text):
                value.append((name, match.group(1)))
    for name, file in dict.fromkeys(value):
        if file.endswith("autoload.php"):
            continue
        seen: set[int] = set()
        for _, mention in source.places(re.compile(rf"({re.escape(name)})(?=\s*\[)")):
            node: Node = mention if mention.type == "variable_name" else mention.parent or mention
            keys = []
            while node.parent is not None and node.parent.type == "subscript_expression":
                index = node.parent.named_children[-1]
                key = string_value(index)
                if node.parent.named_children[0] != node or key is None:
                    break
                node = node.parent
                keys.append(key)
            if keys and node.id not in seen:
                seen.add(node.id)
                context = context_of(source, _GRAMMAR, node, Context())
                yield use_of(source, node, ".".join(keys), context, file=file.lstrip("./"))


def _constants(source: Source) -> Iterator[Constant]:
    for match in _CONSTANT.finditer(source.text):
        name = next(group for group in match.groups() if group)
        start = match.start(match.lastindex or 0)
        node = source.root.descendant_for_byte_range(
            len(source.text[:start].encode()), len(source.text[: start + len(name)].encode())
        )
        while node is not None and node.type not in (
            "const_element",
            "function_call_expression",
            "assignment_expression",
        ):
            node = node.parent
        if node is None:
            continue
        if node.type == "assignment_expression":
            outer = node.parent.parent if node.parent is not None else None
            if outer is None or outer.type != "program":
                continue
        value = arguments_of(node)[-1] if node.type == "function_call_expression" else node.named_children[-1]
        text = string_value(value)
        if text is None and value.type != "integer":
            continue
        given = text if text is not None else int(source_text(value)) if source_text(value).isdigit() else 0
        kind = constant_kind(name.lstrip("$"), given)
        if kind:
            yield Constant(name, str(given), kind, source.place(node))
