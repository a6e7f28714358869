"""Bytecode of cached packages: compiled once for each interpreter, kept in the package cache, linked next to the
sources of every environment that has them.

Compiling takes longer than all the rest of an installation, so it is never waited for: a run that laid
packages starts it as a process of its own, at low priority, which outlives the run. A ``.pyc`` holds the
modification time and size of its source (PEP 552); linked files keep both, so it is valid in every clone.
Where PYTHONDONTWRITEBYTECODE is set, none is made.
"""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import subprocess
from collections.abc import Sequence
from pathlib import Path

from plainfall.packages.cache import CachedTree
from plainfall.packages.placing import Placement
from plainfall.packages.proof import is_unchanged, stamps_of
from plainfall.processes import release, start
from plainfall.runtimes.interpreters import Interpreter
from plainfall.surroundings import Surroundings
from plainfall.writing import read_json, write_replacing

__all__ = ["bytecode_placements", "compile_later", "note_bytecode"]

# Runs under the base interpreter, isolated and without site: nothing of a package is imported or run, no .pth
# file and no sitecustomize is looked at. Each tree's files appear by one rename. Links into the environment are
# made last, never through a link, and only where the server has not written its own meanwhile.
_COMPILER = r"""
import hashlib, json, os, py_compile, shutil, sys, tempfile
os.nice(19)
tag = sys.implementation.cache_tag
for line in sys.stdin.read().splitlines():
    files, target, packages = line.split("\t")
    place = os.path.join(target, tag)
    if not os.path.isdir(place):
        os.makedirs(target, exist_ok=True)
        making, rows = tempfile.mkdtemp(prefix=".making-", dir=target), []
        for folder, _, names in os.walk(files):
            for name in names:
                if not name.endswith(".py"):
                    continue
                inner = os.path.relpath(folder, files)
                out = os.path.join(making, inner, "__pycache__", name[:-3] + "." + tag + ".pyc")
                os.makedirs(os.path.dirname(out), exist_ok=True)
                try:
                    py_compile.compile(os.path.join(folder, name), out, doraise=True, quiet=2)
                except Exception:
                    continue  # written for another Python; importing it would say so
                state = os.stat(out)
                with open(out, "rb") as file:
                    digest = hashlib.sha256(file.read()).hexdigest()[:32]
                rows.append([os.path.relpath(out, making), 0, state.st_size, state.st_mtime_ns, digest])
        with open(os.path.join(making, "manifest.json"), "w") as file:
            json.dump(rows, file)
        try:
            os.rename(making, place)
        except OSError:
            shutil.rmtree(making, ignore_errors=True)
    for folder, _, names in os.walk(place):
        inner = os.path.relpath(folder, place)
        parent = os.path.join(packages, os.path.dirname(inner))
        here = os.path.join(packages, inner)
        if os.path.basename(folder) != "__pycache__" or os.path.realpath(parent) != parent:
            continue
        if os.path.islink(here) or not os.path.isdir(parent):
            continue
        os.makedirs(here, exist_ok=True)
        for name in names:
            try:
                os.link(os.path.join(folder, name), os.path.join(here, name))
            except OSError:
                continue  # there already, or no links on this disk: it will be compiled when imported
"""


def _place(tree: CachedTree) -> Path:
    return tree.folder.parent / "bytecode"


def bytecode_placements(tree: CachedTree, interpreter: Interpreter, packages: Path) -> list[Placement]:
    """The ``.pyc`` files that the cache holds for an interpreter, each with its place in an environment's
    site-packages; none if the tree was not compiled for it yet."""
    major, minor = interpreter.version.split(".")[:2]
    root = _place(tree) / f"cpython-{major}{minor}"
    rows = read_json(root / "manifest.json")
    stamps = read_json(root / "stamps.json")
    if not isinstance(rows, list):
        return []
    if not isinstance(stamps, list) or len(stamps) != len(rows):
        stamps = [0] * len(rows)
    placements = []
    for row, stamp in zip(rows, stamps, strict=True):
        source = f"{root}/{row[0]}"
        with contextlib.suppress(OSError):
            if is_unchanged(source, row, stamp):
                placements.append(Placement(source, f"{packages}/{row[0]}"))
                continue
        shutil.rmtree(root, ignore_errors=True)  # a program wrote there: all of it is compiled anew
        return []
    return placements


def note_bytecode(tree: CachedTree, interpreter: Interpreter) -> None:
    """Notes that the files of a tree's bytecode were linked a moment ago."""
    major, minor = interpreter.version.split(".")[:2]
    root = _place(tree) / f"cpython-{major}{minor}"
    rows = read_json(root / "manifest.json")
    if isinstance(rows, list):
        with contextlib.suppress(OSError):
            write_replacing(root / "stamps.json", json.dumps(stamps_of(f"{root}/", rows)))


def compile_later(
    interpreter: Interpreter, trees: Sequence[CachedTree], packages: Path, surroundings: Surroundings
) -> None:
    """Starts compiling in a process of its own, at the lowest priority; returns at once."""
    if not trees:
        return
    real = os.path.realpath(packages)
    lines = "".join(f"{tree.folder}\t{_place(tree)}\t{real}\n" for tree in trees)
    process = start(
        [str(interpreter.file), "-I", "-S", "-B", "-c", _COMPILER],
        surroundings.for_project(),
        folder="/",
        stdin=subprocess.PIPE,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    release(process.pid, kept=True)
    assert process.stdin is not None
    with contextlib.suppress(BrokenPipeError):
        process.stdin.write(lines.encode("utf-8", "surrogateescape"))
        process.stdin.close()
