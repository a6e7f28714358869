"""What test runners, linters and type checkers say: counts and failures, from a report where one was written, else
from the lines of the output."""

from __future__ import annotations

import re
from xml.etree import ElementTree

from msgspec import Struct

from plainfall.patterns import regex
from plainfall.reading import without_colours

__all__ = ["LARGEST_REPORT", "Failure", "Results", "results_of_output", "results_of_report"]

LARGEST_REPORT = 32 << 20  # bytes
_SHOWN = 20  # failures that are kept


class Failure(Struct, frozen=True):
    """A test that failed, or a place that a checker complains of: its name, and what is said in a line."""

    name: str
    text: str


class Results(Struct, frozen=True):
    """Counts; None for what nobody says. ``problems`` are a linter's or type checker's."""

    passed: int | None = None
    failed: int | None = None
    skipped: int | None = None
    problems: int | None = None
    failures: tuple[Failure, ...] = ()

    @property
    def words(self) -> str:
        """The counts in words; "" for none."""
        pieces = [
            f"{count:,} {word}"
            for count, word in ((self.passed, "passed"), (self.failed, "failed"), (self.skipped, "skipped"))
            if count is not None and (count or word == "passed")
        ]
        if self.problems is not None:
            pieces.append("1 problem" if self.problems == 1 else f"{self.problems:,} problems")
        return ", ".join(pieces)


def results_of_report(data: bytes) -> Results | None:
    """The counts of a JUnit report; None for what is none, or too large. A document with declarations of its own
    is not read: they can make it grow without end."""
    if len(data) > LARGEST_REPORT or b"<!DOCTYPE" in data or b"<!ENTITY" in data:
        return None
    try:
        root = ElementTree.fromstring(data)
    except (ElementTree.ParseError, ValueError):
        return None
    cases = list(root.iter("testcase"))
    if root.tag not in ("testsuite", "testsuites"):
        return None
    failed = [one for one in cases if one.find("failure") is not None or one.find("error") is not None]
    skipped = [one for one in cases if one.find("skipped") is not None and one not in failed]
    failures = [_failure(one) for one in failed[:_SHOWN]]
    return Results(
        len(cases) - len(failed) - len(skipped), len(failed), len(skipped), failures=tuple(failures)
    )


def _failure(case: ElementTree.Element) -> Failure:
    found = case.find("failure") if case.find("failure") is not None else case.find("error")
    text = (found.get("message") or found.text or "") if found is not None else ""
    place = case.get("file") or case.get("classname") or ""
    name = f"{place}: {case.get('name') or ''}" if place else case.get("name") or ""
    lines = [line.strip() for line in text.splitlines() if line.strip()]
    said = lines[0] if lines else ""
    if said == "collection failure" and found is not None:  # the reason stands further down
        reasons = [line[1:].strip() for line in (found.text or "").splitlines() if line.startswith("E ")]
        said = reasons[-1] if reasons else said
    return Failure(name[:200], said[:200])


# Closing lines: what of the results a pattern's groups are, by name.
_CLOSING = tuple(
    regex(pattern, re.MULTILINE)
    for pattern in (
        # TAP, and the runner that the runtime brings
        r"^(?:#|ℹ) (?:pass (?P<passed>\d+)|fail (?P<failed>\d+)|skipped (?P<skipped>\d+))\s*$",
        r"^Tests:?[ \t]{1,20}(?=\d)(?:(?P<failed>\d+) failed[,| \t]*)?(?:(?P<skipped>\d+) skipped[,| \t]*)?"
        r"(?:\d+ todo[,| \t]*)?(?:(?P<passed>\d+) passed)?",
        r"^[ \t]{0,20}Tests[ \t]{1,20}(?:(?P<failed>\d+) failed \| )?(?P<passed>\d+) passed"
        r"(?: \| (?P<skipped>\d+) skipped)?",
        r"^Tests: (?P<all>\d+), Assertions: \d+(?:, Errors: (?P<errors>\d+))?"
        r"(?:, Failures: (?P<failed>\d+))?"
        r"(?:.*?, Skipped: (?P<skipped>\d+))?",
        r"^OK \((?P<passed>\d+) tests?, \d+ assertions?\)",
        r"^[ \t]{0,20}(?P<passed>\d+) passing\b|^[ \t]{0,20}(?P<failed>\d+) failing\b|"
        r"^[ \t]{0,20}(?P<skipped>\d+) pending\b",
        r"^Ran (?P<all>\d+) tests? in [\d.]+s|^FAILED \((?:failures=(?P<failed>\d+))?(?:, )?"
        r"(?:errors=(?P<errors>\d+))?(?:, )?(?:skipped=(?P<skipped>\d+))?|^OK \(skipped=(?P<skipped2>\d+)\)",
        r"^(?P<all>\d+) runs, \d+ assertions, (?P<failed>\d+) failures, (?P<errors>\d+) errors, "
        r"(?P<skipped>\d+) skips",
        r"^(?P<all>\d+) examples?, (?P<failed>\d+) failures?(?:, (?P<skipped>\d+) pending)?",
        r"^=+ (?:(?P<failed>\d+) failed,? ?)?(?:(?P<passed>\d+) passed,? ?)?(?:(?P<skipped>\d+) skipped,? ?)?"
        r".*in [\d.]+s",
        r"^[ \t]{1,20}(?:(?P<failed>\d+) failed$|(?P<skipped>\d+) skipped$|(?P<passed>\d+) passed \()",
        r"^(?:(?P<failed>\d+) failed, )?(?P<passed>\d+) passed(?:, (?P<skipped>\d+) skipped)?.* in [\d.]+s",
        r"^[ \t]{0,20}Tests:[ \t]{1,20}(?P<passed>\d+) passed \(\d+ assertions\)",
    )
)
_PROBLEMS = tuple(
    regex(pattern, re.MULTILINE)
    for pattern in (
        r"^✖ (\d+) problems? \(",
        r"^Found (\d+) errors?\b",
        r"^\d+ files? inspected, (\d+) offenses? detected",
        r"\[ERROR\] Found (\d+) errors?",
        r"^(\d+) errors?, \d+ warnings?",
        r"^FOUND (\d+) ERRORS?",
    )
)
_NONE = regex(
    r"^(Success: no issues found|All checks passed!|.*\bno offenses detected|.*\[OK\] No errors)",
    re.MULTILINE,
)
# A line of a checker that names a place: file, line, and what is wrong there.
_PLACE = regex(
    r"^(?P<name>[\w./@ +-]{1,160}\.\w{1,6}[:(]\d+(?:[:,]\d+)?\)?):?\s+[-–]?\s*(?P<text>\S.{0,200})$",
    re.MULTILINE,
)
_FAILED = regex(
    r"^(?:not ok \d+ -? ?(?P<tap>.+)|(?:FAILED|ERROR) (?P<pytest>\S+(?: - .+)?)|(?:FAIL|ERROR): (?P<unittest>.+)|"
    r"[ \t]{0,20}[✕×✖] (?P<mark>.+)|\d+\) (?P<numbered>\S.+)|rspec (?P<rspec>\./\S+.*))$",
    re.MULTILINE,
)


def results_of_output(output: str, kind: str) -> Results:
    """The counts in a runner's closing lines, and the failures that it names."""
    text = without_colours(output)
    if kind in ("lint", "types"):
        return _of_checker(text)
    counts: dict[str, int] = {}
    for pattern in _CLOSING:
        for match in pattern.finditer(text):
            for name, value in match.groupdict().items():
                if value is not None:
                    counts[name] = int(value)
        if counts:
            break
    if not counts:
        return Results(failures=_named(text))
    failed = counts.get("failed", 0) + counts.get("errors", 0)
    skipped = counts.get("skipped", counts.get("skipped2", 0))
    passed = counts["all"] - failed - skipped if "all" in counts else counts.get("passed", 0)
    return Results(max(passed, 0), failed, skipped, failures=_named(text) if failed else ())


# A failure as unittest shows it: its name, and the traceback to the next rule; the last line tells.
_BLOCK = regex(r"^(?:FAIL|ERROR): (.+)\n-{20,}\n((?:.*\n){1,200}?)(?=\n*(?:={20,}|-{20,})$)", re.MULTILINE)


# Failures as minitest and PHPUnit show them: a heading, the test with its place, what was wrong.
_HEADED = regex(
    r"^(?:(?:Failure|Error):\n|\d{1,6}\) )(?P<name>\S[^\n]{0,200}?)(?: \[(?P<place>[^\]\n]{1,200})\])?:?\n"
    r"(?P<text>\S[^\n]{0,200})$",
    re.MULTILINE,
)


def _named(text: str) -> tuple[Failure, ...]:
    found: dict[str, Failure] = {}
    for match in _HEADED.finditer(text):
        place = f" ({match['place']})" if match["place"] else ""
        found[match["name"]] = Failure(f"{match['name']}{place}", match["text"])
    for match in _BLOCK.finditer(text):
        lines = [line.strip() for line in match.group(2).splitlines() if line.strip()]
        found[match.group(1)[:200]] = Failure(match.group(1)[:200], lines[-1][:200] if lines else "")
    for match in _FAILED.finditer(text):
        name = next(value for value in match.groupdict().values() if value)
        head, _, rest = name.strip().partition(" - ")
        found.setdefault(head[:200], Failure(head[:200], rest[:200]))
    return tuple(found.values())[:_SHOWN]


def _of_checker(text: str) -> Results:
    places = [Failure(match["name"].strip(), match["text"].strip()) for match in _PLACE.finditer(text)]
    counts = [int(match.group(1)) for pattern in _PROBLEMS for match in pattern.finditer(text)]
    if counts:
        return Results(problems=counts[-1], failures=tuple(places[:_SHOWN]))
    if _NONE.search(text):
        return Results(problems=0)
    problems = [one for one in places if not one.text.startswith("note:")]
    return Results(problems=len(problems) or None, failures=tuple(problems[:_SHOWN]))
