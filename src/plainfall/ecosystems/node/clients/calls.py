"""What a command line of a package client asks for: which script or command, with which words, in which packages.

The forms are those that the clients' own manuals document: npm's (``run``, ``exec``, ``-w``, ``--workspaces``,
``--prefix``), pnpm's (``-r``, ``--filter``, ``-C``, ``--parallel``) and both yarns' (``workspace``, ``workspaces
run``, ``workspaces foreach``, ``--cwd``). Nothing is run here."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from msgspec import Struct, field
from msgspec.structs import replace

__all__ = ["Call", "read_call"]

_RUN = frozenset({"run", "run-script", "rum", "urn"})
_SHORT = {"start": "start", "test": "test", "stop": "stop", "restart": "restart", "t": "test", "tst": "test"}
_INSTALLING = frozenset(
    "install i ci add remove rm uninstall update up upgrade link unlink dedupe prune rebuild fetch import audit "
    "install-test it cit".split()
)
# Options that take the next word, where it is not written with "=".
_NPM_VALUES = frozenset(
    "--prefix -C --workspace -w --loglevel --registry --cache --userconfig --script-shell --call -c --package "
    "-p".split()
)
_PNPM_VALUES = frozenset(
    "--filter -F --filter-prod --dir -C --workspace-concurrency --reporter --loglevel --resume-from "
    "--package".split()
)
_YARN_VALUES = frozenset("--cwd --registry --cache-folder --modules-folder".split())
_FOREACH_VALUES = frozenset("--include --exclude --from --jobs -j --since".split())


class Call(Struct, frozen=True):
    """One command line. ``kind`` is "script", "command", "installs", "lists", or "unknown" for what is not done
    here. ``folder`` is where it is meant to run, relative to the current one; ``select`` chooses packages of the
    workspace (None: there is no fan-out; empty: all of them), ``excluded`` and ``included`` narrow it, ``with_top``
    takes the top along. A script that a manifest lacks is a command with ``or_command``. ``may_lack`` and
    ``skips_lacking`` tell what a package without the script means; ``at_once`` how many run at the same time (0:
    all), ``in_order`` that those come first that others need; ``goes_on`` after a failure."""

    kind: str
    name: str = ""
    words: tuple[str, ...] = ()
    folder: str = "."
    at_top: bool = False
    select: tuple[str, ...] | None = None
    included: tuple[str, ...] = ()
    excluded: tuple[str, ...] = ()
    with_top: bool = False
    or_command: bool = False
    may_lack: bool = False
    skips_lacking: bool = False
    skips_itself: bool = False
    at_once: int = 1
    in_order: bool = False
    goes_on: bool = False


class _Options(Struct):
    """What stands before or among the words: each option's values (empty text for one without)."""

    values: dict[str, list[str]] = field(default_factory=dict)

    def of(self, *names: str) -> list[str]:
        return [value for name in names for value in self.values.get(name, [])]

    def has(self, *names: str) -> bool:
        return any(name in self.values and self.values[name][-1] != "false" for name in names)


def read_call(client: str, words: Sequence[str], scripts: Collection[str] = ()) -> Call:
    """The call that ``client words…`` is; ``scripts`` are the names that the manifest here knows, which two of the
    clients take for commands of their own."""
    if client == "npm":
        return _npm(list(words))
    if client == "npx":
        return _npx(list(words))
    if client == "pnpm":
        return _pnpm(list(words), scripts)
    return _yarn(list(words), scripts)


def _taken(words: list[str], with_value: Collection[str]) -> tuple[_Options, list[str]]:
    """The options at the begin, up to the first other word; and the rest."""
    options = _Options()
    while words and words[0].startswith("-") and words[0] != "--":
        name, is_joined, value = words.pop(0).partition("=")
        if not is_joined and name in with_value and words:
            value = words.pop(0)
        options.values.setdefault(name, []).append(value)
    return options, words


def _npm(words: list[str]) -> Call:
    """npm takes its options anywhere before ``--``."""
    options, plain, behind = _Options(), list[str](), list[str]()
    while words:
        if words[0] == "--":
            behind = words[1:]
            break
        found, words = _taken(words, _NPM_VALUES)
        for name, values in found.values.items():
            options.values.setdefault(name, []).extend(values)
        if words and words[0] != "--":
            plain.append(words.pop(0))
    verb, rest = (plain[0], plain[1:]) if plain else ("", [])
    call = Call("unknown", verb, folder=(options.of("--prefix", "-C") or ["."])[-1])
    named = options.of("--workspace", "-w")
    if named or options.has("--workspaces", "-ws"):
        call = replace(
            call, select=tuple(named), with_top=options.has("--include-workspace-root", "-iwr"), goes_on=True
        )
    call = replace(call, may_lack=options.has("--if-present"))
    if verb in _RUN:
        if not rest:
            return replace(call, kind="lists", select=None)
        return replace(call, kind="script", name=rest[0], words=(*rest[1:], *behind))
    if verb in _SHORT:
        return replace(call, kind="script", name=_SHORT[verb], words=(*rest, *behind))
    if verb in ("exec", "x"):
        return _command(
            call, [*options.of("--call", "-c")[:1], *rest, *behind], shell=bool(options.of("--call", "-c"))
        )
    if verb in _INSTALLING or not verb:
        return replace(call, kind="installs")
    return call


def _npx(words: list[str]) -> Call:
    """npx takes its options before the command alone."""
    options, rest = _taken(words, _NPM_VALUES)
    call = Call("unknown", "npx")
    named = options.of("--workspace", "-w")
    if named or options.has("--workspaces", "-ws"):
        call = replace(call, select=tuple(named), goes_on=True)
    said = options.of("--call", "-c")
    return _command(call, [*said[:1], *(rest[1:] if rest[:1] == ["--"] else rest)], shell=bool(said))


def _command(call: Call, words: list[str], *, shell: bool = False) -> Call:
    """A command of an installed package, or a line for the shell."""
    if not words:
        return replace(call, kind="unknown")
    if shell:
        return replace(call, kind="command", name="sh", words=("-c", words[0]))
    return replace(call, kind="command", name=words[0], words=tuple(words[1:]))


def _pnpm(words: list[str], scripts: Collection[str]) -> Call:
    options, rest = _taken(words, _PNPM_VALUES)
    verb = rest.pop(0) if rest else ""
    if verb in ("recursive", "multi", "m"):
        options.values.setdefault("-r", []).append("")
        more, rest = _taken(rest, _PNPM_VALUES)
        options.values.update(more.values)
        verb = rest.pop(0) if rest else ""
    is_own = verb in _RUN or verb in ("exec", "dlx", "x")
    if is_own:
        more, rest = _taken(rest, _PNPM_VALUES)
        options.values.update(more.values)
    call = Call(
        "unknown",
        verb,
        folder=(options.of("--dir", "-C") or ["."])[-1],
        at_top=options.has("-w", "--workspace-root"),
    )
    filters = options.of("--filter", "-F", "--filter-prod")
    if filters or options.has("-r", "--recursive", "--parallel"):
        is_parallel = options.has("--parallel")
        many = options.of("--workspace-concurrency")
        call = replace(
            call,
            select=tuple(filters),
            skips_lacking=True,
            at_once=0 if is_parallel else int(many[-1]) if many and many[-1].isdigit() else 4,
            in_order=not is_parallel and not options.has("--no-sort"),
            goes_on=options.has("--no-bail"),
        )
    call = replace(call, may_lack=options.has("--if-present"))
    if verb in _RUN:
        if not rest:
            return replace(call, kind="lists", select=None)
        return replace(call, kind="script", name=rest[0], words=tuple(_without_first_dashes(rest[1:])))
    if verb in ("exec", "dlx", "x"):
        return _command(call, rest[1:] if rest[:1] == ["--"] else rest)
    if verb in _INSTALLING or not verb:
        return replace(call, kind="installs")
    if verb in _SHORT and verb not in scripts:
        return replace(call, kind="script", name=_SHORT[verb], words=tuple(_without_first_dashes(rest)))
    # ``pnpm NAME`` is a script, in a fan-out of any package, else a command of an installed package.
    if call.select is not None or verb in scripts:
        return replace(call, kind="script", name=verb, words=tuple(_without_first_dashes(rest)))
    return _command(call, [verb, *rest])


def _without_first_dashes(words: list[str]) -> list[str]:
    return words[1:] if words[:1] == ["--"] else words


def _yarn(words: list[str], scripts: Collection[str]) -> Call:
    options, rest = _taken(words, _YARN_VALUES)
    folder = (options.of("--cwd") or ["."])[-1]
    verb = rest.pop(0) if rest else ""
    if verb == "workspace":
        if not rest:
            return Call("unknown", verb)
        name = rest.pop(0)
        # What the other manifest knows is not known here: a word that installs nothing is taken for its script.
        known = {*scripts, *(word for word in rest[:1] if word not in _INSTALLING)}
        inner = _yarn(rest, known)
        return (
            replace(inner, folder=folder, select=(name,), or_command=True) if inner.select is None else inner
        )
    if verb in ("workspaces", "wsrun"):
        return replace(_yarn_workspaces(rest, scripts), folder=folder)
    call = Call("unknown", verb, folder=folder)
    if verb in _RUN:
        more, rest = _taken(rest, ())
        call = replace(call, at_top=more.has("-T", "--top-level"))
        if not rest:
            return replace(call, kind="lists")
        if rest[0] in scripts or not (call.at_top or more.has("-B", "--binaries-only")):
            return replace(call, kind="script", name=rest[0], words=tuple(_without_first_dashes(rest[1:])))
        return _command(call, rest)
    if verb in ("exec", "dlx", "x", "node"):
        return _command(call, ["node", *rest] if verb == "node" else rest[1:] if rest[:1] == ["--"] else rest)
    if verb in scripts:
        return replace(call, kind="script", name=verb, words=tuple(_without_first_dashes(rest)))
    if verb in _INSTALLING or not verb:
        return replace(call, kind="installs")
    if verb in _SHORT:
        return replace(call, kind="script", name=_SHORT[verb], words=tuple(rest))
    return _command(call, [verb, *rest])


def _yarn_workspaces(rest: list[str], scripts: Collection[str]) -> Call:
    """``workspaces run NAME`` of the classic yarn, ``workspaces foreach`` of the newer one."""
    verb = rest.pop(0) if rest else ""
    if verb in _RUN and rest:
        return Call("script", rest[0], tuple(rest[1:]), select=())
    if verb != "foreach":
        return Call("unknown", f"workspaces {verb}")
    # Short options may stand together: ``-Apt``.
    spelled: list[str] = []
    while rest and rest[0].startswith("-"):
        word = rest.pop(0)
        if word in _FOREACH_VALUES and rest:
            spelled += [f"{word}={rest.pop(0)}"]
        elif not word.startswith("--") and "=" not in word:
            spelled += [f"-{letter}" for letter in word[1:]]
        else:
            spelled.append(word)
    options, _ = _taken(spelled, ())
    inner = _yarn(rest, {*scripts, *rest[1:2]})
    is_parallel = options.has("-p", "--parallel")
    many = options.of("--jobs", "-j")
    return replace(
        inner,
        select=(),
        included=tuple(options.of("--include")),
        excluded=tuple(options.of("--exclude")),
        with_top=True,
        skips_lacking=True,
        skips_itself=True,
        at_once=1 if not is_parallel else int(many[-1]) if many and many[-1].isdigit() else 0,
        in_order=options.has("-t", "--topological", "--topological-dev"),
    )
