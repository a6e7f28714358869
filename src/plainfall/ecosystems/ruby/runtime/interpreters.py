"""Ruby interpreters: how they are recognised, and the facts each is asked for."""

from __future__ import annotations

import re
import subprocess
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from plainfall.ecosystems.ruby.resolve.versions import is_version, requirement, version
from plainfall.ecosystems.shared.interpreters import asked_for_facts, line_bounds, named_interpreter
from plainfall.patterns import regex
from plainfall.runtimes.choice import Grammar
from plainfall.runtimes.interpreters import BrokenInterpreter, Interpreter, find_interpreters
from plainfall.surroundings import Surroundings

__all__ = ["GRAMMAR", "ask_ruby", "default_packages", "interpreter_at", "library_of", "ruby_interpreters"]

_NAME = regex(r"^ruby-?(\d+(\.\d+){0,2})?$")
_QUESTIONS = Path(__file__).parents[1] / "library" / "facts.rb"


def ask_ruby(file: Path) -> Mapping[str, Any]:
    """Runs one interpreter and returns its facts. Raises ValueError with the reason if it does not work or is
    another implementation, or subprocess.TimeoutExpired after 20 seconds."""
    facts = asked_for_facts([str(file), str(_QUESTIONS)], seconds=20)
    if facts["engine"] != "ruby":
        raise ValueError(f"it is another implementation of Ruby ({facts['engine']})")
    return facts


def ruby_interpreters(surroundings: Surroundings) -> list[Interpreter | BrokenInterpreter]:
    """Every usual Ruby on this machine, the one that the shell would take first."""
    found = find_interpreters(surroundings, lambda name: _NAME.match(name) is not None, ask_ruby, "ruby-5")
    return [_as_it_is(one) if isinstance(one, Interpreter) else one for one in found]


def _as_it_is(interpreter: Interpreter) -> Interpreter:
    """The interpreter with what is so now: the library of the package client may have come or gone since it was
    asked."""
    rows = interpreter.facts.get("libraries") or ()
    if rows and all(row[3] or Path(row[1]).is_dir() for row in rows if len(row) == 4):
        return interpreter
    try:
        return replace(interpreter, facts=dict(ask_ruby(interpreter.file)))
    except (OSError, ValueError, subprocess.TimeoutExpired):
        return interpreter  # what it says when a command runs is reported there


def interpreter_at(path: Path) -> Interpreter:
    """The interpreter that a person named. Raises what ``ask_ruby`` raises."""
    return named_interpreter(path, ask_ruby)


def default_packages(interpreter: Interpreter) -> Mapping[str, str]:
    """The packages that are part of the runtime: name → version."""
    known = interpreter.facts.get("defaults")
    return known if isinstance(known, dict) else {}


def library_of(interpreter: Interpreter) -> tuple[str, str, str, bool] | None:
    """The newest library of the package client that the runtime brings: version, folder, gemspec, and whether it is
    found without more; None where it was split off."""
    rows = [tuple(row) for row in interpreter.facts.get("libraries") or () if len(row) == 4]
    rows = [row for row in rows if is_version(str(row[0]))]
    best = max(rows, key=lambda row: version(str(row[0])), default=None)
    return None if best is None else (str(best[0]), str(best[1]), str(best[2]), bool(best[3]))


def _relaxed(specifier: str) -> str | None:
    exact = re.fullmatch(r"= (\d+\.\d+)\.\d+(\.\w+)?", specifier)
    return f"~> {exact.group(1)}.0" if exact else None


def _admits(specifier: str, wanted: str) -> bool:
    try:
        return requirement(specifier).admits(version(wanted))
    except ValueError:
        return False


GRAMMAR = Grammar(
    admits=_admits,
    relaxed=_relaxed,
    order=lambda text: tuple(int(piece) for piece in re.findall(r"\d+", text)[:3]),
    is_final=lambda text: not re.search(r"preview|rc|dev", text),
    probes=line_bounds,
)
