"""What JavaScript and TypeScript sources read of their environment."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import TYPE_CHECKING

from plainfall.ecosystems.node.sources.schemas import schema_uses
from plainfall.patterns import regex
from plainfall.sources.context import Context, Grammar, context_of, use_of
from plainfall.sources.names import FILE_NAME, constant_kind
from plainfall.sources.trees import Source, above, arguments_of, called, literal, source_text, string_value
from plainfall.sources.values import Constant, FileFound, Load, Use

if TYPE_CHECKING:
    from tree_sitter import Node

__all__ = ["read_javascript"]

_FARTHEST = 20  # names that stand for one another
_GRAMMAR = Grammar(
    default_operators=frozenset({"||", "??"}),
    converters={
        "Number": "number",
        "parseInt": "number",
        "parseFloat": "number",
        "Number.parseInt": "number",
        "Number.parseFloat": "number",
        "BigInt": "number",
        "Boolean": "boolean",
        "JSON.parse": "json",
        "String": "text",
        "URL": "address",
        ".split": "list",
        ".toLowerCase": "text",
    },
    stops_on_nothing=frozenset({"JSON.parse", "URL", "BigInt"}),
    stop=regex(r"\bthrow\b|process\.exit\(|\bprocess\.abort\("),
    if_types=frozenset({"if_statement"}),
    forms={},
)
_ENVIRONMENT = regex(r"\b((?:globalThis\.)?process\.env|import\.meta\.env|Bun\.env)\b(?!\s*\.\s*get\()")
_LOAD_ENV = regex(
    r"(?<![\w.])(loadEnv)\s*\("
)  # of a dev server's configuration: its settings files, all names
_DENO = regex(r"\b(Deno\.env\.get)\b")
_CONFIG_GET = regex(r"\b(\w*[cC]onfig\w*(?:\.\w+)*?\.(?:get|getOrThrow))\b")
_ENV_VAR = regex(r"\b(\w+\.get)\(\s*['\"][A-Z]")
_TEXTS = regex(r"(['\"`])([\w./@~ -]{3,80})\1")
_DOTENV = regex(r"(?:require\(\s*['\"]dotenv['\"]\s*\)|\bdotenv)\.config\(\s*\)|['\"]dotenv/config['\"]")
_CONSTANT = regex(r"\b(?:const|let|var)\s+([A-Za-z_$][\w$]*)\s*(?::\s*\w+\s*)?=\s*['\"`\d]")
_AS = {"Int|Float|Port": "number", "Bool": "boolean", "Json": "json", "Url": "address", "Array": "list"}
_FUNCTIONS = frozenset("function_declaration arrow_function function_expression method_definition".split())
_TYPED = "tree_sitter_typescript:language_typescript"
_GRAMMARS = dict.fromkeys(("ts", "mts", "cts"), _TYPED) | {"tsx": "tree_sitter_typescript:language_tsx"}
_SCRIPT = regex(r"<script\b([^>]*)>(.*?)</script>", re.DOTALL | re.IGNORECASE)


def read_javascript(text: str, path: str) -> FileFound:
    """What such a source says; of a single-file component, what its scripts say."""
    ending = path.rpartition(".")[2]
    if ending in ("vue", "svelte", "astro"):
        result = FileFound()
        for script in _SCRIPT.finditer(text):
            first = text[: script.start(2)].count("\n") + 1
            one = _read(Source(script.group(2), path, _TYPED, first))
            result = FileFound(
                result.uses + one.uses,
                result.loads + one.loads,
                result.constants + one.constants,
                result.cut or one.cut,
            )
        return result
    return _read(Source(text, path, _GRAMMARS.get(ending, "tree_sitter_javascript:language")))


def _read(source: Source) -> FileFound:
    uses = [*_uses(source), *schema_uses(source), *_document_uses(source)]
    return FileFound(tuple(uses), tuple(_loads(source)), tuple(_constants(source)), source.cut)


def _use(source: Source, node: Node, key: str, start: Context | None = None) -> Use:
    return use_of(source, node, key, context_of(source, _GRAMMAR, node, start or Context()))


def _uses(source: Source) -> Iterator[Use]:
    seen: set[int] = set()
    for _, node in source.places(_ENVIRONMENT):
        if node.id not in seen and node.type in ("member_expression", "identifier"):
            seen.add(node.id)
            yield from _of_environment(source, node)
    for _, node in source.places(_LOAD_ENV) if "loadEnv" in source.text else ():
        call = node.parent
        if call is not None and call.type == "call_expression":
            yield from _of_environment(source, call)
    for _, node in source.places(_DENO):
        yield from _of_getter(source, node, needed=False)
    for _, node in source.places(_CONFIG_GET) if "onfig" in source.text else ():
        yield from _of_getter(source, node, needed=source_text(node).endswith("OrThrow"), upper=True)
    if "env-var" in source.text:
        for _, node in source.places(_ENV_VAR):
            yield from _of_env_var(source, node)


def _of_environment(source: Source, node: Node) -> Iterator[Use]:
    """The reads of one mention of the environment: a member, an index, a pattern, another name for it."""
    outer = node.parent
    if outer is None:
        return
    if outer.type == "member_expression" and outer.child_by_field_name("object") == node:
        if not _is_written(outer):
            yield _use(source, outer, source_text(outer.child_by_field_name("property")))
    elif outer.type == "subscript_expression" and outer.child_by_field_name("object") == node:
        index = outer.child_by_field_name("index")
        key = string_value(index)
        if key is not None and not _is_written(outer):
            yield _use(source, outer, key)
        elif index is not None and index.type == "identifier":
            for key in _looped(source, index):
                yield _use(source, outer, key)
            yield from _by_helper(source, outer, index)
    elif outer.type == "variable_declarator" and outer.child_by_field_name("value") == node:
        pattern = outer.child_by_field_name("name")
        if pattern is not None and pattern.type == "object_pattern":
            yield from _of_pattern(source, pattern)
        elif pattern is not None and pattern.type == "identifier":
            alias = re.compile(rf"(?<![\w.$])({re.escape(source_text(pattern))})(?=\s*[.\[])")
            for _, mention in source.places(alias):
                if mention.type == "identifier":
                    yield from _of_environment(source, mention)


def _is_written(node: Node) -> bool:
    """Whether a member is assigned to or deleted, not read."""
    outer = node.parent
    if outer is None:
        return False
    if outer.type == "assignment_expression":
        return outer.child_by_field_name("left") == node
    return outer.type == "unary_expression" and source_text(outer).startswith("delete")


def _of_pattern(source: Source, pattern: Node) -> Iterator[Use]:
    for one in pattern.named_children:
        key, default = one, None
        if one.type == "pair_pattern":
            key = one.child_by_field_name("key") or one
            value = one.child_by_field_name("value")
            if value is not None and value.type == "assignment_pattern":
                default = literal(value.child_by_field_name("right"))
        elif one.type == "object_assignment_pattern":
            key = one.child_by_field_name("left") or one
            default = literal(one.child_by_field_name("right"))
        elif one.type != "shorthand_property_identifier_pattern":
            continue
        name = source_text(key)
        needed = default is None and _tested(source, name)
        yield use_of(source, one, name, Context(default, needed=needed))


def _tested(source: Source, name: str) -> bool:
    """Whether a name is tested somewhere, and the program stopped where it holds nothing."""
    match = re.search(rf"if\s*\([^)]*!\s*{re.escape(name)}\b[^)]*\)\s*\{{?([^}}]*)", source.text)
    return match is not None and _GRAMMAR.stop.search(match.group(1)) is not None


def _of_getter(source: Source, node: Node, *, needed: bool, upper: bool = False) -> Iterator[Use]:
    call = next((one for one in above(node) if one.type == "call_expression"), None)
    if call is None or not source_text(call).startswith(source_text(node)):
        return
    given = arguments_of(call)
    key = string_value(given[0]) if given else None
    if key is None or (upper and not re.fullmatch(r"[A-Z][A-Z0-9_]+", key)):
        return
    default = literal(given[1]) if len(given) > 1 and given[1].type != "object" else None
    yield _use(source, call, key, Context(default, needed=needed and default is None))


def _of_env_var(source: Source, node: Node) -> Iterator[Use]:
    """``env.get("KEY").required().asPortNumber()``: the whole chain says what is wanted."""
    call = node.parent
    if call is None or call.type != "call_expression":
        return
    key = string_value(arguments_of(call)[0])
    default, needed, kind = None, False, "text"
    for chain in above(call):
        if chain.type not in ("member_expression", "call_expression"):
            break
        if chain.type != "call_expression":
            continue
        method = called(chain).rpartition(".")[2]
        if method == "default" and arguments_of(chain):
            default = literal(arguments_of(chain)[0])
        needed = needed or method == "required"
        for pattern, name in _AS.items():
            if method.startswith("as") and re.search(pattern, method):
                kind = name
    if key:
        yield use_of(source, call, key, Context(default, kind, needed and default is None))


def _looped(source: Source, index: Node) -> list[str]:
    """The texts that a loop's variable runs over."""
    name = source_text(index)
    for node in above(index):
        listed = None
        if node.type == "for_in_statement" and name in source_text(node.child_by_field_name("left")).split():
            listed = node.child_by_field_name("right")
        elif node.type == "arrow_function" and node.parent is not None and node.parent.parent is not None:
            taken = source_text(
                node.child_by_field_name("parameter") or node.child_by_field_name("parameters")
            )
            function = node.parent.parent.child_by_field_name("function")
            if re.search(rf"\b{re.escape(name)}\b", taken) and function is not None:
                listed = function.child_by_field_name("object")
        if listed is not None:
            return _list_of(source, listed)
    return []


def _list_of(source: Source, node: Node, depth: int = 0) -> list[str]:
    if depth > _FARTHEST:
        return []  # names that stand for each other
    if node.type == "identifier":
        declared = re.compile(rf"\b(?:const|let|var)\s+({re.escape(source_text(node))})\b")
        for _, result in source.places(declared):
            value = result.parent.child_by_field_name("value") if result.parent is not None else None
            if value is not None:
                return _list_of(source, value, depth + 1)
        return []
    if node.type == "as_expression":
        node = node.named_children[0]
    values = [string_value(one) for one in node.named_children] if node.type == "array" else []
    return [value for value in values if value is not None]


def _by_helper(source: Source, read: Node, index: Node) -> Iterator[Use]:
    """Calls of a function that looks its own argument up."""
    name = source_text(index)
    node = next((one for one in above(read) if one.type in _FUNCTIONS), None)
    if node is None:
        return
    taken = node.child_by_field_name("parameters") or node.child_by_field_name("parameter")
    names = (
        [re.split(r"[\s:=?]", source_text(one))[0] for one in taken.named_children]
        if taken is not None
        else []
    )
    function = source_text(node.child_by_field_name("name"))
    if not function and node.parent is not None and node.parent.type == "variable_declarator":
        function = source_text(node.parent.child_by_field_name("name"))
    if name not in names or not function:
        return
    position = names.index(name)
    stops = _GRAMMAR.stop.search(source_text(node)) is not None
    for _, mention in source.places(re.compile(rf"(?<![\w$])({re.escape(function)})(?=\s*\()")):
        call = mention.parent
        if call is not None and call.type == "member_expression":
            call = call.parent
        if call is None or call.type != "call_expression":
            continue
        given = arguments_of(call)
        key = string_value(given[position]) if len(given) > position else None
        if key is not None:
            default = literal(given[position + 1]) if len(given) > position + 1 else None
            yield _use(source, call, key, Context(default, needed=stops and default is None))


def _loads(source: Source) -> Iterator[Load]:
    for _, node in source.places(_DOTENV):
        yield Load(".env", "", source.place(node))
    for match in _TEXTS.finditer(source.text):
        name = match.group(2)
        if not FILE_NAME.match(name):
            continue
        row = source.text.rfind("\n", 0, match.start()) + 1
        line = source.text[row : source.text.find("\n", match.end())]
        text = source.root.descendant_for_byte_range(
            len(source.text[: match.start(2)].encode()), len(source.text[: match.end(2)].encode())
        )
        if text is None or text.type not in ("string_fragment", "string", "template_string"):
            continue
        is_relative = "__dirname" in line or "import.meta" in line
        if re.search(r"\brequire\(|\bfrom\s|\bimport[\s(]", line):
            if not name.startswith((".", "/")):
                continue  # a package, or an alias for a folder (``~/env``): no file's own name
            is_relative = is_relative or "/" in name
        yield Load(name, "file" if is_relative else "", source.place(text))


def _document_uses(source: Source) -> Iterator[Use]:
    """Members of a name that a configuration file was loaded into."""
    pattern = re.compile(
        r"(?:(?:const|let|var|import)\s+(?:\*\s+as\s+)?(\w+)\s*(?:=|from)[^;\n]*?)['\"`]([\w./-]+\.(?:json|ya?ml|toml|ini))['\"`]"
    )
    for match in pattern.finditer(source.text):
        name, file = match.groups()
        if file.endswith(("package.json", "tsconfig.json")):
            continue
        chain = re.compile(rf"(?<![\w.$'\"])({re.escape(name)})(?=\s*(?:\?\.|\.|\[))")
        for _, mention in source.places(chain):
            if mention.type != "identifier":
                continue
            node, keys = mention, []
            for outer in above(mention):
                if outer.child_by_field_name("object") != node:
                    break
                key = string_value(outer.child_by_field_name("index")) or source_text(
                    outer.child_by_field_name("property")
                )
                is_method = outer.parent is not None and outer.parent.child_by_field_name("function") == outer
                if not key or is_method:
                    break
                node = outer
                keys.append(key)
            if keys:
                context = context_of(source, _GRAMMAR, node, Context())
                yield use_of(source, node, ".".join(keys), context, file=file.removeprefix("./"))


def _constants(source: Source) -> Iterator[Constant]:
    for _, node in source.places(_CONSTANT):
        declared = node.parent
        value = declared.child_by_field_name("value") if declared is not None else None
        around = declared.parent.parent if declared is not None and declared.parent is not None else None
        if value is None or around is None or around.type not in ("program", "export_statement"):
            continue
        text = string_value(value)
        if text is None and value.type != "number":
            continue
        given = text if text is not None else int(source_text(value)) if source_text(value).isdigit() else 0
        kind = constant_kind(source_text(node), given)
        if kind:
            yield Constant(source_text(node), str(given), kind, source.place(node))
