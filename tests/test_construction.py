"""What holds by construction: where files are written, where processes are started, which way imports go."""

from __future__ import annotations

import ast
import functools
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
    "packages/placing.py": "folders are checked one by one before a file is placed",
    "packages/unpacking.py": "a new folder of the cache, after the names were checked",
    "packages/tarballs.py": "the same",
    "ecosystems/python/building.py": "a workshop in the cache",
    "packages/source_archives.py": "a new folder, after the names were checked",
    "intake/bringing.py": "a new folder beside the place that the person named, moved there as a whole",
    "ecosystems/python/supply.py": "a workshop in the cache, and logs of builds there",
    "ecosystems/python/references.py": "a workshop in the cache",
    "ecosystems/python/environment.py": "a new environment that is made in a folder of ours, then moved in",
    "ecosystems/node/repositories.py": "a new folder of the cache",
    "ecosystems/node/store.py": "a new folder of the cache",
    "ecosystems/php/store.py": "a new folder of the cache",
    "ecosystems/ruby/store.py": "a new folder of the cache",
    "ecosystems/ruby/building.py": "a workshop in the cache",
    "ecosystems/node/components.py": "the cache's own folder",
    "onboarding/register.py": "the user's state folder",
    "services/private.py": "data folders below a confined one or of root's alone, copies in the cache, sockets",
    "services/engines/mysql.py": "the copy of a database, beside the data folder of ours",
    "services/engine.py": "a file in a data folder of ours, made anew each time",
    "onboarding/fetched_services.py": "a folder of the user's cache, or of root's alone, under a checked name",
    "onboarding/state.py": "the lock, whose descriptor came from `confinement`",
    "server/reloading.py": "the time of a file whose place was resolved before",
    "onboarding/restoring.py": "the time of a file whose place was resolved before",
    "onboarding/edits.py": "a link beside a file whose place was resolved before",
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
        "ecosystems/node/runner.py: os.spawnve",
        "ecosystems/php/runner.py: os.spawnve",
        "processes.py: subprocess.Popen",
    ]


def test_nothing_is_printed_below_the_command_line() -> None:
    # Programs of their own.
    own = (
        "ecosystems/node/runner.py",
        "ecosystems/php/runner.py",
        "ecosystems/ruby/runner.py",
        "ecosystems/python/own_names.py",
    )
    for name, tree in modules():
        if not name.startswith("cli/") and name not in (*own, "__main__.py"):
            calls = [node for node in ast.walk(tree) if isinstance(node, ast.Call)]
            assert not [one.lineno for one in calls if ast.unparse(one.func) in ("print", "sys.exit")], name


@pytest.mark.parametrize("word", ["json.loads", "tomllib.loads", "yaml.load", "yaml.compose"])
def test_foreign_documents_are_read_with_bounds(word: str) -> None:
    own = {
        "reading.py": "the readers with bounds themselves",
        "writing.py": "what Plainfall wrote into its own folders",
        "sealing.py": "a document with a seal",
        "onboarding/state.py": "the accounts that were made",
        "formats/json_file.py": "one text literal of a document that was read before",
        "formats/toml_file.py": "one value that Plainfall is about to write",
        "ecosystems/python/lists/pylock.py": "the lock that Plainfall has just made",
        "services/needs.py": "what the sources' reader made of a dictionary",
        "ecosystems/python/interpreters.py": "what an interpreter answers to our own questions",
        "ecosystems/node/interpreters.py": "the same",
        "ecosystems/node/runner.py": "a program of its own, run by the project",
        "ecosystems/php/runner.py": "a program of its own, run by the project",
        "ecosystems/php/interpreters.py": "what an interpreter that Plainfall asked printed",
        "ecosystems/ruby/interpreters.py": "the same",
        "ecosystems/node/lines.py": "a file of Plainfall's own",
        "diagnosis/system_packages.py": "a file of Plainfall's own",
        "diagnosis/reading.py": "a file of Plainfall's own",
    }
    for name, tree in modules():
        for node in ast.walk(tree):
            if isinstance(node, ast.Call) and ast.unparse(node.func) == word:
                assert name in own, f"{name}:{node.lineno}"
