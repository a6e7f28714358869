"""The lines of a program's output that matter, and the rule that recognises them."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping, Sequence
from functools import cache
from pathlib import Path
from typing import Any

from msgspec import Struct

from plainfall.diagnosis.system_packages import install_words
from plainfall.failure_facts import Facts, facts_of
from plainfall.failure_kinds import FailureKind
from plainfall.patterns import regex
from plainfall.reading import without_colours

__all__ = ["Diagnosis", "diagnose", "is_usage", "lines_that_matter", "own_words", "speaks_of_error"]

_TELLING = regex(
    r"error|exception|fatal|failed|cannot|denied|refused|not found|no such|missing|traceback|panic|abort",
    re.IGNORECASE,
)
# Lines of a traceback that tell a reader nothing: the import machinery's own frames, and underlines.
_NOISE = regex(r'^\s*File "<frozen |^\s*[\^~]+\s*$')
_FRAME = regex("[\u2500-\u257f]+")
_MOST = 12
_FEW = 2  # lines: a program that says no more has said why
_SHOWN = 180  # characters of a program's own words
_SAYS_WHY = regex(
    r"^\s*(?:\w[\w.]{0,80}(?:Error|Exception|Exit|Failed|NotFound|Missing)\b: ?\S|"
    r"(?:[^\s\w]\s*|[\w.-]{1,60}: )?(?:fatal |critical )?(?:error|fatal|failed)\b[^\n]{0,80}[:\u2014-] ?\S)|"
    r"^\S[^\n]{0,200}\b(?:not found|is missing|is required|does not exist|is not set|is not configured|cannot|"
    r"could not|refus(?:es|ed|ing) to)\b|\b(?:run|execute|call)\b[^\n]{1,80}\bfirst\b",
    re.IGNORECASE,
)
_USAGE = regex(r"^\s{0,9}usage:", re.IGNORECASE | re.MULTILINE)
_LONGEST = 600  # characters of a line: what follows in it is data, and some patterns take the square of it


class Diagnosis(Struct, frozen=True):
    """A recognised failure: the rule's id, cause and remedy in words, the line that told (empty where the
    exit status did), what Plainfall itself may do about it (empty: nothing), and what is known of it. ``rule`` is
    empty if none fits."""

    rule: FailureKind
    cause: str
    remedy: str
    line: str = ""
    mend: str = ""
    facts: Facts = Facts()


@cache
def _rules() -> tuple[Mapping[str, Any], ...]:
    return tuple(tomllib.loads((Path(__file__).parent / "rules.toml").read_text("utf-8"))["rule"])


@cache
def _pattern(source: str) -> re.Pattern[str]:
    """Most outputs are recognised before the last rule is asked: each pattern is compiled when it is needed."""
    return re.compile(source)


def diagnose(output: str, status: int | None = None) -> Diagnosis:
    """The rule for the last line of the output that any rule recognises; else the one for the exit status
    (negative for a signal). A rule that ``wraps`` another error, where the output has
    that text, counts only if none before it is recognised."""
    wrapper: Diagnosis | None = None
    for entire in reversed(output.splitlines()[-400:]):
        line = _shortened(without_frames(without_colours(entire)))
        for rule in _rules():
            match = _pattern(rule["pattern"]).search(line) if "pattern" in rule else None
            if match and rule.get("wraps", "\0") in output:
                wrapper = wrapper or _diagnosis(rule, match.groupdict(), line.strip())
                break
            if match:
                return _diagnosis(rule, match.groupdict(), line.strip())
    if wrapper is not None:
        return wrapper
    silent = (rule for rule in _rules() if "pattern" not in rule and rule["status"] == status)
    return next((_diagnosis(rule, {}, "") for rule in silent), Diagnosis(FailureKind.UNKNOWN, "", ""))


def without_frames(line: str) -> str:
    """A line without the frame that a program draws around its words.

    >>> without_frames("┌────┐│ Could not locate the bindings  ││ file.  │└────┘")
    'Could not locate the bindings file.'
    """
    return " ".join(_FRAME.sub(" ", line).split()) if _FRAME.search(line) else line


def _shortened(line: str) -> str:
    """A line without its middle where it is long: an error stands at its beginning or at its end."""
    return line if len(line) <= _LONGEST else f"{line[: _LONGEST // 2]} … {line[-_LONGEST // 2 :]}"


def _diagnosis(rule: Mapping[str, Any], groups: Mapping[str, Any], line: str) -> Diagnosis:
    kind = FailureKind(rule["id"])
    facts = facts_of(kind, groups)
    named = facts.named
    words = {"name": named or "it", "packages": ""}
    if "needs" in rule:
        words["packages"] = install_words(rule["needs"].format(name=words["name"]))
    cause = rule["cause"].format(**words)
    if not named:
        cause = cause.replace(" (it)", "")
    return Diagnosis(kind, cause, rule["remedy"].format(**words), line, rule.get("mend", ""), facts)


def own_words(lines: Sequence[str]) -> str:
    """The program's own last word on what went wrong, for output that no rule knows: the last line of those that
    matter that speaks of an error, or all there is; "" where none does.

    >>> own_words(("Traceback (most recent call last):", "  at once", "RuntimeError: gauge 7 is upside down"))
    'RuntimeError: gauge 7 is upside down'
    """
    lines = [without_frames(line) for line in lines]
    last = lines[-1] if lines else ""
    alone = last.strip() if len(lines) <= _FEW and re.match(r"\S+ \S+ \S", last) else ""
    found = _error_line(lines) or alone
    return found if len(found) <= _SHOWN else f"{found[:_SHOWN]} …"


def speaks_of_error(output: str) -> bool:
    """Whether a program's output ends with an error, whatever its exit status says."""
    return bool(diagnose(output).rule or _error_line(lines_that_matter(output)))


def is_usage(output: str) -> bool:
    """Whether a program said nothing but how it is used."""
    return _USAGE.search(without_colours(output)) is not None and not diagnose(output).rule


def _error_line(lines: Sequence[str]) -> str:
    return next((line.strip() for line in reversed(lines) if _SAYS_WHY.search(line)), "")


def lines_that_matter(output: str) -> tuple[str, ...]:
    """At most 12 lines: the last traceback's end or the last telling lines, else the very last ones."""
    lines = [_shortened(line.rstrip()) for line in without_colours(output).splitlines() if line.strip()]
    lines = [line for line in lines if not _NOISE.search(line)]
    starts = [number for number, line in enumerate(lines) if line.startswith("Traceback (most recent")]
    if starts:
        block = lines[starts[-1] :]
        ending = next(
            (n for n, line in enumerate(block[1:], 1) if not line.startswith((" ", "\t"))), len(block) - 1
        )
        if block[ending].rstrip().endswith(":"):  # what it says follows on lines of its own
            ending = min(ending + _MOST // 2, len(block) - 1)
        block = block[: ending + 1]
        return tuple(block if len(block) <= _MOST else [*block[:1], "  …", *block[-(_MOST - 2) :]])
    telling = [line for line in lines if _TELLING.search(line)]
    return tuple((telling or lines)[-_MOST:])
