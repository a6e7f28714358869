"""What holds by construction: where files are written, where processes are started, which way imports go."""

from __future__ import annotations

import ast
import functools
import re
from collections.abc import Iterator
from pathlib import Path

import pytest

SOURCE = Path(__file__).parents[1] / "src/plainfall"

# Modules that change files by the operating system's own means, and why they may. All others go through
# `confinement`, which stays inside the clone.
MAY_CHANGE_FILES = {
    "confinement.py": "it is the one that stays inside",
    "writing.py": "files of the user's own cache and state folders, at places that no clone names",
    "sealing.py": "the user's key",
    "cli/program.py": "the log of a fault, in the user's state folder",
    "cli/commands/demo.py": "the folder that the person named for the demo, or a temporary one",
    "packages/cache.py": "the package cache, whose keys are digests",
    "packages/stock.py": "what is taken out of the package cache, at places that were found in it",
    "packages/remembered.py": "conclusions in the cache, under checked names",
    "packages/client.py": "a download in the cache",
    "ownership.py": "the user's own cache and state folders",
    "ecosystems/python/install/bytecode.py": "bytecode in the cache",
    "packages/placing.py": "folders are checked one by one before a file is placed",
    "packages/unpacking.py": "a new folder of the cache, after the names were checked",
    "packages/tarballs.py": "the same",
    "ecosystems/python/install/building.py": "a workshop in the cache",
    "packages/source_archives.py": "a new folder, after the names were checked",
    "intake/bringing.py": "a new folder beside the place that the person named, moved there as a whole",
    "ecosystems/python/install/supply.py": "a workshop in the cache, and logs of builds there",
    "ecosystems/python/install/references.py": "a workshop in the cache",
    "ecosystems/python/runtime/environment.py": "a new environment that is made in a folder of ours, then moved in",
    "ecosystems/node/install/repositories.py": "a new folder of the cache",
    "ecosystems/node/install/store.py": "a new folder of the cache",
    "ecosystems/php/install/store.py": "a new folder of the cache",
    "ecosystems/shared/tree_store.py": "a workshop in the cache",
    "ecosystems/ruby/install/building.py": "a workshop in the cache",
    "ecosystems/node/install/components.py": "the cache's own folder",
    "onboarding/records/register.py": "the user's state folder",
    "services/private.py": "data folders below a confined one or of root's alone, copies in the cache, sockets",
    "services/engines/mysql.py": "the copy of a database, beside the data folder of ours",
    "services/engine.py": "a file in a data folder of ours, made anew each time",
    "onboarding/services/fetched.py": "a folder of the user's cache, or of root's alone, under a checked name",
    "onboarding/records/state.py": "the lock, whose descriptor came from `confinement`",
    "server/reloading.py": "the time of a file whose place was resolved before",
    "onboarding/records/restoring.py": "the time of a file whose place was resolved before",
    "onboarding/part/edits.py": "a link beside a file whose place was resolved before",
    "server/process.py": "a log outside of clones, for tests and benchmarks",
    "server/logs.py": "a log that is opened without following links",
    "server/control_group.py": "the system's own control groups",
    "server/picture.py": "the file that the person named for a picture",
    "sources/files.py": "what was read is remembered in the cache",
    "tracing.py": "the debug log, in the state folder or where the person named it",
}
CHANGES = {
    *(
        "rmtree",
        "unlink",
        "rename",
        "replace",
        "mkdir",
        "makedirs",
        "symlink_to",
        "hardlink_to",
        "symlink",
        "link",
    ),
    *(
        "write_text",
        "write_bytes",
        "chmod",
        "copyfile",
        "copy",
        "copy2",
        "copytree",
        "move",
        "rmdir",
        "touch",
    ),
    *("truncate", "ftruncate", "mkfifo", "remove", "removedirs", "rename", "utime", "pwrite"),
}
OF_MODULES = {"os", "shutil"}


@functools.cache
def modules() -> tuple[tuple[str, ast.Module], ...]:
    paths = sorted(SOURCE.rglob("*.py"))
    names = [(path, path.relative_to(SOURCE).as_posix()) for path in paths]
    return tuple(
        (name, ast.parse(path.read_text("utf-8"))) for path, name in names if "standins/" not in name
    )


def changes(tree: ast.Module) -> Iterator[str]:
    """Calls that change files: of os and shutil, of paths, and opening for writing."""
    for node in ast.walk(tree):
        if not isinstance(node, ast.Call):
            continue
        called = node.func
        if isinstance(called, ast.Attribute) and called.attr in CHANGES:
            owner = called.value
            words = ast.unparse(owner)
            if words in OF_MODULES or (
                called.attr not in {"replace", "copy", "remove", "link", "rename"}
                and "confined" not in words
                and "inside" not in words
                and words != "clone"
            ):
                yield f"{node.lineno}: {ast.unparse(called)}"
        name = (
            called.id
            if isinstance(called, ast.Name)
            else called.attr
            if isinstance(called, ast.Attribute)
            else ""
        )
        if name == "open" and len(node.args) > 1 and _writes(node.args[1]):
            yield f"{node.lineno}: {ast.unparse(called)} for writing"


def _writes(mode: ast.expr) -> bool:
    return isinstance(mode, ast.Constant) and bool(set(str(mode.value)) & set("wax+"))


def test_files_are_changed_only_where_it_is_known_to_be_safe() -> None:
    found = {name: list(changes(tree)) for name, tree in modules()}
    wrong = {name: rows for name, rows in found.items() if rows and name not in MAY_CHANGE_FILES}
    # A log whose descriptor came from `confinement` is wrapped for writing.
    wrong = {name: [row for row in rows if "open for writing" not in row] for name, rows in wrong.items()}
    assert {name: rows for name, rows in wrong.items() if rows} == {}
    assert [name for name in MAY_CHANGE_FILES if not (SOURCE / name).is_file()] == []


def test_processes_are_started_in_one_place() -> None:
    found = []
    for name, tree in modules():
        for node in ast.walk(tree):
            if isinstance(node, ast.Call):
                words = ast.unparse(node.func)
                if words in (
                    "subprocess.run",
                    "subprocess.Popen",
                    "subprocess.call",
                    "os.system",
                    "os.popen",
                    "os.spawnve",
                ):
                    found.append(f"{name}: {words}")
    # The second is a program of its own, which runs a project's scripts in the environment that it was given.
    assert found == [
        "ecosystems/node/clients/runner.py: os.spawnve",
        "ecosystems/php/clients/runner.py: os.spawnve",
        "processes.py: subprocess.Popen",
    ]


def test_nothing_is_printed_below_the_command_line() -> None:
    # Programs of their own.
    own = (
        "ecosystems/node/clients/runner.py",
        "ecosystems/php/clients/runner.py",
        "ecosystems/ruby/clients/runner.py",
        "ecosystems/python/clients/own_names.py",
    )
    for name, tree in modules():
        if not name.startswith("cli/") and name not in (*own, "__main__.py"):
            calls = [node for node in ast.walk(tree) if isinstance(node, ast.Call)]
            assert not [one.lineno for one in calls if ast.unparse(one.func) in ("print", "sys.exit")], name


@pytest.mark.parametrize("word", ["json.loads", "tomllib.loads", "yaml.load", "yaml.compose"])
def test_foreign_documents_are_read_with_bounds(word: str) -> None:
    own = {
        "reading.py": "the readers with bounds themselves",
        "foreign_patterns.py": "the answer of a program of Plainfall's own",
        "writing.py": "what Plainfall wrote into its own folders",
        "sealing.py": "a document with a seal",
        "onboarding/records/state.py": "the accounts that were made",
        "formats/json_file.py": "one text literal of a document that was read before",
        "formats/toml_file.py": "one value that Plainfall is about to write",
        "ecosystems/python/lists/pylock.py": "the lock that Plainfall has just made",
        "services/needs.py": "what the sources' reader made of a dictionary",
        "ecosystems/python/runtime/interpreters.py": "what an interpreter answers to our own questions",
        "ecosystems/shared/interpreters.py": "the same",
        "ecosystems/node/clients/runner.py": "a program of its own, run by the project",
        "ecosystems/php/clients/runner.py": "a program of its own, run by the project",
        "ecosystems/node/runtime/lines.py": "a file of Plainfall's own",
        "ecosystems/python/runtime/asks.py": "a file of Plainfall's own",
        "diagnosis/system_packages.py": "a file of Plainfall's own",
        "diagnosis/reading.py": "a file of Plainfall's own",
    }
    for name, tree in modules():
        for node in ast.walk(tree):
            if isinstance(node, ast.Call) and ast.unparse(node.func) == word:
                assert name in own, f"{name}:{node.lineno}"


# Who may make paths below the package cache's folder: the cache itself, and what takes things out of it.
OF_THE_CACHE = {"packages/cache.py", "packages/remembered.py", "packages/stock.py"}
CACHE_FOLDER = re.compile(
    r"(^|[._ (])_?cache(_folder)?(\.folder|\.trees)?$|PackageCache\([^()]*\)\.(folder|trees)$"
)


def test_no_other_code_makes_a_path_below_the_package_cache() -> None:
    found = []
    for name, tree in modules():
        if name in OF_THE_CACHE:
            continue
        for node in ast.walk(tree):
            left: ast.expr | None = None
            line = getattr(node, "lineno", 0)
            if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Div):
                left = node.left
            elif isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and node.args:
                if node.func.attr == "joinpath":
                    left = node.func.value
                elif ast.unparse(node.func) in ("os.path.join", "Path") and len(node.args) > 1:
                    left = node.args[0]
            if left is not None and CACHE_FOLDER.search(ast.unparse(left)):
                found.append(f"{name}:{line}")
    assert found == []


def test_every_key_of_the_cache_says_what_it_depends_on() -> None:
    """A key comes from one of four constructors; where a name is taken up again, a sealed record or the cache itself
    holds it."""
    records = {
        "packages/cache.py": "the digest of an archive, before it becomes a path",
        "ecosystems/node/install/store.py": "a conclusion of the cache",
        "ecosystems/node/install/laying.py": "the sealed mark of what was laid",
        "ecosystems/php/install/laying.py": "the sealed record of what was laid",
        "ecosystems/php/install/packages.py": "what was laid a moment ago",
        "ecosystems/python/install/supply.py": "a conclusion of the cache",
        "ecosystems/python/install/dependencies.py": "a conclusion of the cache",
        "ecosystems/python/runtime/debugging.py": "a conclusion of the cache",
    }
    for name, tree in modules():
        for node in ast.walk(tree):
            if isinstance(node, ast.Call):
                called = ast.unparse(node.func)
                assert called != "CacheKey" or name == "packages/cache_key.py", f"{name}:{node.lineno}"
                if called == "CacheKey.recorded":
                    assert name in records, f"{name}:{node.lineno}"


# Modules that open files by other means than `plain_files`, and what these files are.
OPENS = {
    "plain_files.py": "it is the one that opens",
    "cli/commands/onboard.py": "answers that the person named on the command line",
    "cli/commands/survey.py": "a release index that the person named on the command line",
    "cli/console.py": "the null device",
    "cli/definition.py": "Plainfall's own modules",
    "cli/program.py": "the log of a fault, newly made",
    "confinement.py": "descriptors that were opened without following links",
    "data/sqlite.py": "a descriptor that was opened without following links",
    "diagnosis/reading.py": "Plainfall's own rules",
    "diagnosis/system_packages.py": "Plainfall's own table, and the system's release file",
    "ecosystems/node/runtime/lines.py": "Plainfall's own table",
    "ecosystems/php/clients/configuration.py": "the person's own logins",
    "ecosystems/php/runtime/environments.py": "Plainfall's own router",
    "ecosystems/php/install/loader.py": "Plainfall's own library",
    "ecosystems/php/install/plugins.py": "Plainfall's own template",
    "ecosystems/python/clients/configuration.py": "the person's own configuration",
    "ecosystems/python/recognise/imports.py": "Plainfall's own tables",
    "ecosystems/python/resolve/limits.py": "constraints that the person's own configuration names",
    "ecosystems/python/sources/documents.py": "an example in a docstring",
    "ecosystems/ruby/clients/configuration.py": "the person's own configuration",
    "onboarding/uses/check/checking.py": "a descriptor of `confinement`",
    "onboarding/stages/commands.py": "logs, through `confinement`",
    "onboarding/uses/serve/following.py": "logs of servers of ours",
    "onboarding/records/journal.py": "a descriptor of `confinement`",
    "onboarding/uses/probe/probing.py": "logs of servers of ours",
    "onboarding/records/restoring.py": "descriptors of `confinement`",
    "onboarding/records/state.py": "a descriptor of `confinement`",
    "packages/client.py": "downloads in the cache",
    "packages/proof.py": "files of the cache, whose kind and size were compared",
    "packages/source_archives.py": "an archive, and a new folder that it is unpacked into",
    "packages/unpacking.py": "an archive of the cache",
    "processes.py": "a process, not a file",
    "sealing.py": "descriptors that were opened without following links, and the user's key",
    "server/control_group.py": "the system's own files",
    "server/devtools.py": "the null device",
    "server/logs.py": "logs of servers of ours",
    "server/ports.py": "the system's own table of sockets",
    "server/process_table.py": "the system's own files",
    "ecosystems/python/runtime/asks.py": "Plainfall's own table",
    "server/readiness.py": "logs of servers of ours",
    "server/reloading.py": "logs of servers of ours",
    "services/engine.py": "a descriptor of a new file",
    "writing.py": "files of the user's cache and state",
}


def test_files_of_a_clone_are_opened_in_one_place() -> None:
    for name, tree in modules():
        for node in ast.walk(tree):
            if isinstance(node, ast.Call):
                called = ast.unparse(node.func)
                opens = called in ("open", "io.open", "os.open") or called.endswith(
                    (".read_text", ".read_bytes")
                )
                assert not (opens and called != "os.open") or name in OPENS, f"{name}:{node.lineno}"
    assert [name for name in OPENS if not (SOURCE / name).is_file()] == []


PATTERN_CALLS = ("regex", "compile", "search", "match", "finditer", "findall", "sub", "split")


def test_no_pattern_of_lines_begins_with_blanks_that_run_over_lines() -> None:
    """``^\\s*`` over a whole text tries each blank line to its end from each of its lines: 200,000 blank lines of a
    clone take minutes. Blanks of one line are ``[ \\t]*``."""
    found = []
    for path in sorted(SOURCE.rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text())):
            if not isinstance(node, ast.Call) or not ast.unparse(node.func).endswith(PATTERN_CALLS):
                continue
            over_lines = re.search(r"\bMULTILINE\b|\bre\.M\b|\(\?m", ast.unparse(node))
            begins = any(
                re.match(r"(\(\?[a-z]+\))?\(?(\?:)?\^\\s[*+]", part.value)
                for part in ast.walk(node)
                if isinstance(part, ast.Constant) and isinstance(part.value, str)
            )
            if over_lines and begins and not any(isinstance(part, ast.Call) for part in node.args):
                found.append(f"{path.relative_to(SOURCE)}:{node.lineno}")
    assert found == []
