"""The lines of a wall of output that matter, and the rule that recognises them."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cache
from pathlib import Path

from plainfall.diagnosis.system_packages import install_words

__all__ = ["Diagnosis", "diagnose", "lines_that_matter"]

_TELLING = re.compile(
    r"error|exception|fatal|failed|cannot|denied|refused|not found|no such|missing|traceback|panic|abort",
    re.IGNORECASE,
)
# Lines of a traceback that tell a reader nothing: the import machinery's own frames, and underlines.
_NOISE = re.compile(r'^\s*File "<frozen |^\s*[\^~]+\s*$')
_MOST = 12


@dataclass(frozen=True)
class Diagnosis:
    """A recognised failure: the rule's id, cause and remedy in words. ``rule`` is empty if none fits."""

    rule: str
    cause: str
    remedy: str


@cache
def _rules() -> tuple[tuple[re.Pattern[str], Mapping[str, str]], ...]:
    data = tomllib.loads((Path(__file__).parent / "rules.toml").read_text("utf-8"))
    return tuple((re.compile(rule["pattern"]), rule) for rule in data["rule"])


def diagnose(output: str) -> Diagnosis:
    """The rule for the last line of the output that any rule recognises."""
    for line in reversed(output.splitlines()[-400:]):
        for pattern, rule in _rules():
            found = pattern.search(line)
            if found:
                # Alternatives of a pattern have names of their own; the one that matched is the name.
                named = next((value for value in found.groupdict().values() if value), "it")
                words = {"name": named, "packages": ""}
                if "needs" in rule:
                    words["packages"] = install_words(rule["needs"].format(name=named))
                return Diagnosis(rule["id"], rule["cause"].format(**words), rule["remedy"].format(**words))
    return Diagnosis("", "", "")


def lines_that_matter(output: str) -> tuple[str, ...]:
    """At most 12 lines: the last traceback's end or the last telling lines, else the very last ones."""
    lines = [line.rstrip() for line in output.splitlines() if line.strip()]
    lines = [line for line in lines if not _NOISE.search(line)]
    starts = [number for number, line in enumerate(lines) if line.startswith("Traceback (most recent")]
    if starts:
        block = lines[starts[-1] :]
        ending = next(
            (n for n, line in enumerate(block[1:], 1) if not line.startswith((" ", "\t"))), len(block) - 1
        )
        block = block[: ending + 1]
        return tuple(block if len(block) <= _MOST else [*block[:1], "  …", *block[-(_MOST - 2) :]])
    telling = [line for line in lines if _TELLING.search(line)]
    return tuple((telling or lines)[-_MOST:])
