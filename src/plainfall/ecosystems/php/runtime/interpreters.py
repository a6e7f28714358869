"""PHP interpreters: how they are recognised, and the facts each is asked for.

Version and file are remembered by the file's identity, as for every runtime. Which extensions it loads depends on
its ini files, too: they are asked for again when one of the folders that it reads has changed.
"""

from __future__ import annotations

import os
import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from plainfall.ecosystems.php.resolve.versions import admits, is_constraint
from plainfall.ecosystems.shared.interpreters import asked_for_facts, line_bounds, named_interpreter
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.remembered import Remembered
from plainfall.patterns import regex
from plainfall.runtimes.choice import Grammar
from plainfall.runtimes.interpreters import BrokenInterpreter, Interpreter, find_interpreters
from plainfall.surroundings import Surroundings
from plainfall.writing import digest_of

__all__ = ["GRAMMAR", "ask_php", "extensions_of", "interpreter_at", "php_interpreters"]

_NAME = regex(r"^php-?(\d(\.?\d{1,2})?)?$")
_QUESTIONS = """
$names = [];
foreach (get_loaded_extensions() as $name) {
    $names[str_replace(' ', '-', strtolower($name))] = phpversion($name) ?: PHP_VERSION;
}
echo json_encode([
    'version' => PHP_MAJOR_VERSION . '.' . PHP_MINOR_VERSION . '.' . PHP_RELEASE_VERSION . PHP_EXTRA_VERSION,
    'executable' => realpath(PHP_BINARY), 'interface' => PHP_SAPI, 'threads' => (bool) PHP_ZTS,
    'bits' => PHP_INT_SIZE * 8, 'extensions' => $names,
    'places' => array_values(array_filter([php_ini_loaded_file() ?: '', PHP_CONFIG_FILE_SCAN_DIR,
        ini_get('extension_dir')])),
]);
"""


def ask_php(file: Path) -> Mapping[str, Any]:
    """Runs one interpreter and returns its facts. Raises ValueError with the reason if it does not work or serves
    no command line, or subprocess.TimeoutExpired after 10 seconds."""
    facts = asked_for_facts([str(file), "-r", _QUESTIONS], seconds=10)
    if facts["interface"] != "cli":
        raise ValueError(f"it serves {facts['interface']}, not a command line")
    return {**facts, "state": _state(facts)}


def _state(facts: Mapping[str, Any]) -> str:
    """Changes when an ini file, or a folder that extensions are found by, changes."""
    rows: list[object] = []
    for place in facts.get("places") or ():
        try:
            rows += [place, os.stat(place).st_mtime_ns]
        except OSError:
            rows += [place, 0]
    return digest_of(*rows)


def php_interpreters(surroundings: Surroundings) -> list[Interpreter | BrokenInterpreter]:
    """Every PHP on this machine that serves a command line, the one that the shell would take first, with the
    extensions that it loads now."""
    found = find_interpreters(surroundings, lambda name: _NAME.match(name) is not None, ask_php, "php")
    memory = Remembered(surroundings.cache)
    return [_as_it_is(one, memory) if isinstance(one, Interpreter) else one for one in found]


def _as_it_is(interpreter: Interpreter, memory: Remembered) -> Interpreter:
    state = _state(interpreter.facts)
    if state == interpreter.facts.get("state"):
        return interpreter
    key = CacheKey.of_machine("php-extensions", interpreter.identity)
    known = memory.recall(key)
    if not isinstance(known, dict) or known.get("state") != state:
        try:
            known = dict(ask_php(interpreter.file))
        except (OSError, ValueError):
            return interpreter  # what it says when a command runs is reported there
        memory.remember(key, known)
    return replace(interpreter, facts=known)


def interpreter_at(path: Path) -> Interpreter:
    """The interpreter that a person named. Raises what ``ask_php`` raises."""
    return named_interpreter(path, ask_php)


def extensions_of(interpreter: Interpreter) -> Mapping[str, str]:
    """The extensions that it loads, lower case with hyphens, and their versions."""
    known = interpreter.facts.get("extensions")
    return known if isinstance(known, dict) else {}


def _relaxed(specifier: str) -> str | None:
    exact = re.fullmatch(r"(\d+\.\d+)\.\d+", specifier)
    return f"{exact.group(1)}.*" if exact else None


def _numbers(version: str) -> tuple[int, ...]:
    return tuple(int(piece) for piece in re.findall(r"\d+", version)[:3])


def _admits(specifier: str, version: str) -> bool:
    return is_constraint(specifier) and admits(specifier, _plain(version))


def _plain(version: str) -> str:
    """A runtime's version without what a distribution hangs behind it."""
    match = re.match(r"\d+\.\d+\.\d+((?:alpha|beta|RC)\d+|-dev)?", version)
    return match.group() if match else version


GRAMMAR = Grammar(
    admits=_admits,
    relaxed=_relaxed,
    order=_numbers,
    is_final=lambda version: not re.search(r"alpha|beta|RC|dev", version),
    probes=line_bounds,
)
