"""Asking an interpreter for its facts, and giving the one that a person named: alike for every language."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

from plainfall.processes import run
from plainfall.runtimes.interpreters import Interpreter

__all__ = ["asked_for_facts", "line_bounds", "named_interpreter"]

_PATH = {"PATH": "/usr/bin:/bin", "LANG": "C.UTF-8"}


def asked_for_facts(command: Sequence[str], *, seconds: float) -> dict[str, Any]:
    """The JSON object in the last line that the command prints. Raises ValueError with the interpreter's own last
    words where there is none, or where it names neither its version nor its file; subprocess.TimeoutExpired."""
    done = run([*command], _PATH, seconds=seconds)
    lines = done.output.strip().splitlines()
    try:
        facts = json.loads(lines[-1]) if lines and done.status == 0 else None
    except ValueError:
        facts = None
    if not isinstance(facts, dict) or "version" not in facts or not facts.get("executable"):
        words = done.errors.strip().splitlines() or lines
        raise ValueError(words[-1] if words else f"it ends with status {done.status}")
    return facts


def named_interpreter(path: Path, ask: Callable[[Path], Mapping[str, Any]]) -> Interpreter:
    """The interpreter that a person named, with its facts. Raises what ``ask`` raises."""
    facts = ask(path)
    return Interpreter(path, Path(facts["executable"]), str(facts["version"]), facts)


def line_bounds(specifier: str) -> list[str]:
    """Versions of a pin's own release line, to see whether another ask admits any of them: the pin itself where it
    is exact, the first and the last of its line.

    >>> line_bounds("~> 3.2.0")
    ['3.2.0', '3.2.0', '3.2.99']
    """
    line = re.search(r"(\d+)(?:\.(\d+))?(?:\.(\d+))?", specifier)
    if not line:
        return []
    minor = line.group(2) or "0"
    exact = [line.group()] if line.group(3) else []
    return [*exact, f"{line.group(1)}.{minor}.0", f"{line.group(1)}.{minor}.99"]
