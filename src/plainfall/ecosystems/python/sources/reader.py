"""What Python sources read of their environment, from the standard library's own syntax tree."""

from __future__ import annotations

import ast
from collections.abc import Iterator

from plainfall.ecosystems.python.sources.databases import databases
from plainfall.ecosystems.python.sources.documents import document_uses
from plainfall.ecosystems.python.sources.settings_classes import class_uses
from plainfall.ecosystems.python.sources.tree import Module, dotted, literal_text, path_of
from plainfall.sources.names import FILE_NAME, constant_kind, looks_secret
from plainfall.sources.values import Constant, FileFound, Load, Use

__all__ = ["read_python"]

_MAPPINGS = {"os.environ"}
_GETTERS = {"os.getenv", "os.environ.get", "os.environ.pop"}
_TYPES = {
    "int": "number",
    "float": "number",
    "bool": "boolean",
    "strtobool": "boolean",
    "json.loads": "json",
    "ast.literal_eval": "json",
    "Path": "path",
    "pathlib.Path": "path",
    "Decimal": "number",
}
# These stop the program when they are given None.
_WANT_TEXT = {"int", "float", "json.loads", "Path", "pathlib.Path", "Decimal"}
_FORMS = {"Fernet": "fernet", "bytes.fromhex": "hex", "unhexlify": "hex", "b64decode": "base64"}
_READER_TYPES = {
    "bool": "boolean",
    "int": "number",
    "float": "number",
    "list": "list",
    "tuple": "list",
    "json": "json",
    "dict": "json",
    "url": "address",
    "db": "address",
    "db_url": "address",
    "cache": "address",
    "cache_url": "address",
    "email_url": "address",
    "search_url": "address",
    "path": "path",
    "str": "text",
    "Csv": "list",
}
_READER_KEYS = {
    "db": "DATABASE_URL",
    "cache": "CACHE_URL",
    "email_url": "EMAIL_URL",
    "db_url": "DATABASE_URL",
}
_JOINING = {"join", "Path", "joinpath"}
_LOADERS = {"load_dotenv", "dotenv_values", "read_env", "RepositoryEnv", "RepositoryIni", "find_dotenv"}


def read_python(text: str, path: str) -> FileFound:
    """What a Python source says; nothing for one that this Python cannot parse."""
    try:
        tree = ast.parse(text)
    except (SyntaxError, ValueError, RecursionError, MemoryError):  # the last for too many brackets
        return FileFound()  # written for another Python, or not finished: running it will say more
    module = Module(tree, text, path)
    reader = _Reader(module)
    uses = [*reader.uses(), *class_uses(module), *document_uses(module)]
    assigned = tuple(reader.assigned())
    return FileFound(
        tuple(uses),
        tuple(reader.loads()),
        tuple(_constants(module)),
        assigned=assigned,
        addresses=tuple(databases(module)),
    )


class _Reader:
    """Finds the reads of one module."""

    def __init__(self, module: Module) -> None:
        self._module = module
        self._mappings = set(_MAPPINGS)
        self._getters = set(_GETTERS)
        self._readers: dict[str, str] = {}
        self._defaults: dict[str, str | None] = {}
        self._helpers: dict[str, tuple[int, bool, bool]] = {}
        for node in module.all(ast.Import, ast.ImportFrom, ast.Assign):
            self._learn(node)
        self._reads: list[tuple[ast.expr, ast.expr, ast.expr | None, bool]] = []
        candidates: list[ast.Subscript | ast.Call] = [*module.all(ast.Subscript), *module.all(ast.Call)]
        for read in candidates:
            key, default, stops = self._key_of(read)
            if key is not None:
                self._reads.append((read, key, default, stops))
                if isinstance(key, ast.Name):
                    self._learn_helper(read, key, stops)

    def _learn(self, node: ast.AST) -> None:
        """Other names for the environment, and objects of the readers that people use."""
        if isinstance(node, ast.Import):
            for name in node.names:
                if name.name == "os" and name.asname:
                    self._is_environment(f"{name.asname}.environ")
                    self._getters.add(f"{name.asname}.getenv")
        elif isinstance(node, ast.ImportFrom) and node.module == "os":
            for name in node.names:
                if name.name == "environ":
                    self._is_environment(name.asname or name.name)
                elif name.name == "getenv":
                    self._getters.add(name.asname or name.name)
        elif isinstance(node, ast.ImportFrom) and node.module == "decouple":
            for name in node.names:
                if name.name in ("config", "AutoConfig"):
                    self._readers[name.asname or name.name] = "decouple"
        elif isinstance(node, ast.Assign) and len(node.targets) == 1:
            target, value = dotted(node.targets[0]), node.value
            if not target:
                return
            if dotted(value) in self._mappings:
                self._is_environment(target)
            made = dotted(value.func) if isinstance(value, ast.Call) else ""
            if made in ("Env", "environ.Env", "environ.FileAwareEnv", "environs.Env", "FileAwareEnv"):
                self._readers[target] = "env"
                assert isinstance(value, ast.Call)
                for word in value.keywords:
                    if word.arg and isinstance(word.value, ast.Tuple) and len(word.value.elts) == 2:
                        self._defaults[word.arg] = literal_text(word.value.elts[1])
            elif made in ("Config", "starlette.config.Config", "decouple.Config", "AutoConfig"):
                self._readers[target] = "decouple"

    def _is_environment(self, name: str) -> None:
        """A name stands for the process's environment; a bare ``environ`` is one only where it comes from ``os``:
        elsewhere it is what a web server hands to an application."""
        self._mappings.add(name)
        self._getters |= {f"{name}.get", f"{name}.pop"}

    def _is_argument(self, node: ast.expr) -> bool:
        """Whether the name at the beginning of an expression is an argument of a function around it."""
        first = dotted(node).partition(".")[0]
        for outer, _ in self._module.above(node):
            if isinstance(outer, ast.FunctionDef | ast.AsyncFunctionDef | ast.Lambda):
                given = outer.args
                if any(one.arg == first for one in (*given.posonlyargs, *given.args, *given.kwonlyargs)):
                    return True
        return False

    def _learn_helper(self, read: ast.AST, key: ast.Name, stops: bool) -> None:
        """A function that looks its own argument up: (its position, whether absence stops it, whether it
        takes a default)."""
        for node, _ in self._module.above(read):
            if isinstance(node, ast.FunctionDef):
                names = [argument.arg for argument in node.args.args]
                if key.id in names:
                    position = names.index(key.id)
                    stops = stops or any(self._module.is_stop(one) for one in ast.walk(node))
                    self._helpers[node.name] = (position, stops, len(names) > position + 1)
                return

    def _key_of(self, node: ast.Subscript | ast.Call) -> tuple[ast.expr | None, ast.expr | None, bool]:
        """The key that a node looks up in the environment, its default, and whether absence raises."""
        if (
            isinstance(node, ast.Subscript)
            and isinstance(node.ctx, ast.Load)
            and dotted(node.value) in self._mappings
            and not self._is_argument(node.value)
        ):
            return node.slice, None, True
        called = isinstance(node, ast.Call) and node.args and dotted(node.func) in self._getters
        if isinstance(node, ast.Call) and called and not self._is_argument(node.func):
            default = node.args[1] if len(node.args) > 1 else _keyword(node, "default")
            return node.args[0], default, dotted(node.func).endswith(".pop") and default is None
        return None, None, False

    def assigned(self) -> Iterator[str]:
        """Variables of the environment that the module sets itself."""
        for node in self._module.all(ast.Assign):
            for target in node.targets:
                if isinstance(target, ast.Subscript) and dotted(target.value) in self._mappings:
                    yield from (name for name, _ in self._module.texts_of(target.slice))

    def uses(self) -> Iterator[Use]:
        for node, key, default, stops in self._reads:
            for name, bound in self._module.texts_of(key):
                text = literal_text(default) if default is not None else None
                caught = stops and self._module.absence_is_handled(node, name)
                yield self._in_context(name, node, text, stops and not caught, bound)
        for call in self._module.all(ast.Call):
            yield from self._by_reader(call)
            yield from self._by_helper(call)
            yield from self._set_default(call)
        for compared in self._module.all(ast.Compare):
            yield from self._membership(compared)

    def _in_context(
        self, key: str, node: ast.expr, default: str | None, needed: bool, bound: ast.AST | None = None
    ) -> Use:
        """A use with what the code around it does to the value."""
        module, kind, form = self._module, "text", ""
        inner: ast.AST = node
        while True:
            outer = module.parents.get(inner)
            if isinstance(outer, ast.BoolOp) and isinstance(outer.op, ast.Or) and outer.values[0] is inner:
                if default is None:
                    default = literal_text(outer.values[-1])
                needed = False
            elif isinstance(outer, ast.Call) and inner in outer.args:
                name = dotted(outer.func)
                last = name.rpartition(".")[2]
                kind = _TYPES.get(name, kind)
                form = _FORMS.get(name, _FORMS.get(last, form))
                needed = needed or (default is None and (name in _WANT_TEXT or last in _FORMS))
                if name not in _TYPES and last not in _FORMS:
                    break
            elif isinstance(outer, ast.Attribute):
                call = module.parents.get(outer)
                if not isinstance(call, ast.Call) or call.func is not outer:
                    break
                kind = "list" if outer.attr == "split" else kind
                needed = needed or default is None
                inner = call
                continue
            elif isinstance(outer, ast.Compare) and inner is outer.left:
                words = {str(one).lower() for part in outer.comparators for one in module.values_of(part)}
                if words & {"true", "1", "yes", "on", "false", "0"}:
                    kind = "boolean"
                break
            elif isinstance(outer, ast.BinOp) and default is None and isinstance(outer.op, ast.Add | ast.Div):
                needed = True
                break
            elif isinstance(outer, ast.IfExp) and inner is not outer.test:
                pass
            else:
                break
            inner = outer
        needed = needed and not module.absence_is_handled(node, key)
        if not needed and default is None:
            needed = module.is_guarded(node, inner, bound) and not module.is_left_before(node, key)
        length, exact = module.demanded_length(inner)
        needed = needed or (length > 0 and default is None)
        place = module.place(node, default if form or looks_secret(key) else None)
        return Use(key, place, default, kind, needed, form, length, exact=exact)

    def _membership(self, node: ast.Compare) -> Iterator[Use]:
        """``if "KEY" not in os.environ: raise``."""
        if (
            len(node.ops) == 1
            and isinstance(node.ops[0], ast.NotIn)
            and dotted(node.comparators[0]) in self._mappings
        ):
            for name, bound in self._module.texts_of(node.left):
                needed = self._module.is_guarded(node, node, bound)
                yield Use(name, self._module.place(node), None, "text", needed)

    def _by_reader(self, node: ast.Call) -> Iterator[Use]:
        """``env("KEY")``, ``env.bool("KEY", default=…)``, ``config("KEY", cast=int)``."""
        name = dotted(node.func)
        owner, _, method = name.rpartition(".")
        if name in self._readers:
            method = ""
        elif owner in self._readers and self._readers[owner] == "env":
            if method not in _READER_TYPES:
                return
        else:
            return
        keys = [key for key, _ in self._module.texts_of(node.args[0])] if node.args else []
        if not keys and method in _READER_KEYS:
            keys = [_READER_KEYS[method]]
        default = _keyword(node, "default")
        reader = self._readers.get(name, "env")
        if default is None and len(node.args) > 1 and (method or reader == "decouple"):
            default = node.args[1] if reader == "env" or len(node.args) == 2 else node.args[2]
        cast = _keyword(node, "cast")
        cast_name = dotted(cast.func if isinstance(cast, ast.Call) else cast) if cast is not None else ""
        kind = _READER_TYPES.get(method or cast_name, "text")
        for key in keys:
            text = literal_text(default) if default is not None else self._defaults.get(key)
            place = self._module.place(node, text if looks_secret(key) else None)
            yield Use(key, place, text, kind, text is None)

    def _by_helper(self, node: ast.Call) -> Iterator[Use]:
        name = dotted(node.func).rpartition(".")[2]
        if name not in self._helpers:
            return
        position, stops, takes_default = self._helpers[name]
        if len(node.args) <= position:
            return
        default = _keyword(node, "default")
        if default is None and takes_default and len(node.args) > position + 1:
            default = node.args[position + 1]
        for key, bound in self._module.texts_of(node.args[position]):
            text = literal_text(default) if default is not None else None
            yield self._in_context(key, node, text, stops and text is None, bound)

    def _set_default(self, node: ast.Call) -> Iterator[Use]:
        name = dotted(node.func)
        owner, _, method = name.rpartition(".")
        if method == "setdefault" and owner in self._mappings and len(node.args) == 2:
            for key, _ in self._module.texts_of(node.args[0]):
                yield Use(key, self._module.place(node), literal_text(node.args[1]))
        elif method == "from_envvar" and node.args:
            for key, _ in self._module.texts_of(node.args[0]):
                silent = _keyword(node, "silent")
                quiet = isinstance(silent, ast.Constant) and silent.value is True
                quiet = quiet or self._module.absence_is_handled(node, key)
                yield Use(key, self._module.place(node), None, "path", not quiet)

    def loads(self) -> Iterator[Load]:
        """Calls that load settings, and every literal that looks like the name of a configuration file, with
        the pieces that it is joined with."""
        named: set[int] = set()
        for text in self._module.all(ast.Constant):
            if not isinstance(text.value, str) or len(text.value) > 120 or not FILE_NAME.match(text.value):
                continue
            entire: ast.expr = text
            around = self._module.parents.get(text)
            if isinstance(around, ast.Call) and dotted(around.func).endswith("getLogger"):
                continue  # a name with dots
            for outer, _ in self._module.above(text):
                joined = isinstance(outer, ast.BinOp) and isinstance(outer.op, ast.Div)
                if isinstance(outer, ast.Call) and dotted(outer.func).rpartition(".")[2] in _JOINING:
                    joined = True
                if not joined:
                    break
                assert isinstance(outer, ast.expr)
                entire = outer
            result = path_of(entire, self._module)
            if result and FILE_NAME.match(result[0]):
                named.add(text.lineno)
                yield Load(*result, self._module.place(text))
        for call in self._module.all(ast.Call):
            if dotted(call.func).rpartition(".")[2] in _LOADERS and call.lineno not in named:
                yield Load(".env", "", self._module.place(call))


def _keyword(node: ast.Call, name: str) -> ast.expr | None:
    return next((word.value for word in node.keywords if word.arg == name), None)


def _constants(module: Module) -> Iterator[Constant]:
    """Assignments of literals in the module or a class: hosts, ports, addresses, devices."""
    for body in [module.tree.body, *(n.body for n in module.all(ast.ClassDef))]:
        for node in body:
            if isinstance(node, ast.Assign) and len(node.targets) == 1:
                target, value = node.targets[0], node.value
            elif isinstance(node, ast.AnnAssign) and node.value is not None:
                target, value = node.target, node.value
            else:
                continue
            if not isinstance(target, ast.Name) or not isinstance(value, ast.Constant):
                continue
            result = value.value
            if isinstance(result, bool) or not isinstance(result, str | int):
                continue
            kind = constant_kind(target.id, result)
            if kind:
                yield Constant(target.id, str(result), kind, module.place(node))
