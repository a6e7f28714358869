"""Node interpreters: how they are recognised, and the facts each is asked for once."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from plainfall.ecosystems.node.resolve.versions import admits, parse_version
from plainfall.ecosystems.node.runtime.builtins import OPTIONAL
from plainfall.ecosystems.shared.interpreters import asked_for_facts, named_interpreter
from plainfall.patterns import regex
from plainfall.runtimes.choice import Grammar
from plainfall.runtimes.interpreters import BrokenInterpreter, Interpreter, find_interpreters
from plainfall.surroundings import Surroundings

__all__ = ["GRAMMAR", "ask_node", "interpreter_at", "node_interpreters"]

_NAME = regex(r"^node(js|\d+)?$")
_QUESTIONS = """
const report = process.report && process.report.getReport ? process.report.getReport().header : {};
const { isBuiltin } = require('module');
console.log(JSON.stringify({
  version: process.versions.node, executable: require('fs').realpathSync(process.execPath),
  platform: process.platform, arch: process.arch, abi: process.versions.modules,
  libc: report.glibcVersionRuntime ? 'glibc' : (process.platform === 'linux' ? 'musl' : ''),
  client: (() => { try { return require('fs').realpathSync(require('path').join(
    require('path').dirname(process.execPath), '../lib/node_modules/npm')); } catch { return ''; } })(),
  ...(isBuiltin ? Object.fromEntries(OPTIONAL.map((name) => [name, isBuiltin(name)])) : {}),
}));
""".replace("OPTIONAL", json.dumps(OPTIONAL))


def ask_node(file: Path) -> Mapping[str, Any]:
    """Runs one interpreter and returns its facts. Raises ValueError with the reason if it does not work,
    or subprocess.TimeoutExpired after 10 seconds."""
    return asked_for_facts([str(file), "-e", _QUESTIONS], seconds=10)


def node_interpreters(surroundings: Surroundings) -> list[Interpreter | BrokenInterpreter]:
    """Every Node on this machine, the one that the shell would take first."""
    return find_interpreters(surroundings, lambda name: _NAME.match(name) is not None, ask_node, "node")


def interpreter_at(path: Path) -> Interpreter:
    """The interpreter that a person named. Raises what ``ask_node`` raises."""
    return named_interpreter(path, ask_node)


def _relaxed(specifier: str) -> str | None:
    exact = re.fullmatch(r"(\d+)\.\d+(\.\d+|\.x)", specifier)
    return f"{exact.group(1)}.x" if exact else None


def _probes(specifier: str) -> list[str]:
    """Versions of a pin's own line, to see whether another ask admits any of them."""
    line = re.match(r"(\d+)(\.\d+)?", specifier)
    exact = [specifier] if parse_version(specifier) else []
    if not line:
        return exact
    minor = [f"{line.group()}.0", f"{line.group()}.99"] if line.group(2) else []
    return [*exact, *minor, f"{line.group(1)}.0.0", f"{line.group(1)}.99.0"]


def _numbers(version: str) -> tuple[int, ...]:
    result = parse_version(version)
    return result.numbers if result else ()


GRAMMAR = Grammar(
    admits=admits,
    relaxed=_relaxed,
    order=_numbers,
    is_final=lambda version: "-" not in version,
    probes=_probes,
)
