"""Which interpreter to take, and why each of the others was not taken."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from pathlib import Path

from msgspec import Struct, field

from plainfall.errors import NoFittingRuntime
from plainfall.runtimes.asks import Strength, VersionAsk
from plainfall.runtimes.interpreters import BrokenInterpreter, Interpreter
from plainfall.tracing import trace

__all__ = ["Choice", "Grammar", "Rejected", "choose", "disagree", "named_choice"]


class Grammar(Struct, frozen=True):
    """What the choice must know of an ecosystem's versions.

    ``admits(specifier, version)``; ``relaxed(specifier)`` is the specifier of the same release line, for
    a pin whose exact patch release is not here, or None; ``order(version)`` sorts, larger is newer;
    ``is_final(version)`` is False for pre-releases; ``probes(specifier)`` are versions of a pin's release
    line, to see whether another ask admits one.
    """

    admits: Callable[[str, str], bool]
    relaxed: Callable[[str], str | None]
    order: Callable[[str], tuple[int, ...]]
    is_final: Callable[[str], bool]
    probes: Callable[[str], list[str]]


class Rejected(Struct, frozen=True):
    """An interpreter that was not taken, and the reason in a few words; ``fits`` tells that nothing spoke
    against it but that another one is better."""

    path: str
    version: str
    reason: str
    fits: bool = False


class Choice(Struct, frozen=True):
    """The interpreter that was taken, the rejected ones, remarks (a pin that was met only nearly), and notes, which
    only explain."""

    taken: Interpreter
    rejected: list[Rejected] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)


def choose(
    language: str,
    asks: Sequence[VersionAsk],
    candidates: Sequence[Interpreter | BrokenInterpreter],
    grammar: Grammar,
    unfit: Callable[[Interpreter], str | None],
    preferred: Callable[[str], int] = lambda version: 0,
    *,
    near: bool = False,
) -> Choice:
    """The best interpreter for the asks; ``unfit`` gives a reason against one whatever its version.

    ``preferred`` ranks versions for a reason of its own (how many of the locked packages are made for one), before
    the weak asks do. The strongest asks hold first; where a pin and a range can never hold together the pin wins
    and that is remarked. Where the exact patch release of a pin is not here, another of its line is taken and that
    is remarked; with
    ``near``, where none of its line is, the nearest that the ranges admit is. Among equals a version that weaker
    asks prefer, then a final release, then the newest, then the one found first. Raises NoFittingRuntime."""
    usable, rejected = _usable(candidates, unfit)
    remarks: list[str] = []
    value = [ask for ask in asks if ask.strength >= Strength.RANGE]
    specifiers = {ask: ask.specifier for ask in value}
    fitting = _fitting(usable, specifiers, grammar)
    if not fitting:
        relaxed = {ask: _relaxed(ask, grammar) for ask in value}
        fitting = _fitting(usable, relaxed, grammar)
        if fitting:
            specifiers = relaxed
            remarks.extend(_patch_remarks(value, grammar))
    if not fitting:
        fitting, specifiers, dropped = _strongest(usable, value, grammar)
        remarks += [
            f"{ask.text} ({ask.evidence}) cannot hold together with the stronger asks" for ask in dropped
        ]
    if not fitting and near:
        fitting, specifiers, remarks = _near_the_pin(usable, value, grammar)
    if not fitting:
        raise _none_fits(language, value, usable, rejected)
    weak = [ask for ask in asks if ask.strength < Strength.RANGE]

    def merit(item: tuple[int, Interpreter]) -> tuple[object, ...]:
        position, interpreter = item
        version = interpreter.version
        agreed = sum(int(ask.strength) for ask in weak if grammar.admits(ask.specifier, version))
        exact = sum(grammar.admits(ask.specifier, version) for ask in value)
        final = grammar.is_final(version)
        return exact, preferred(version), agreed, final, grammar.order(version), -position

    best = max(enumerate(fitting), key=merit)[1]
    for other in usable:
        if other is not best:
            reason, fits = _against(other, best, specifiers, weak, grammar)
            rejected.append(Rejected(str(other.path), other.version, reason, fits))
    for one in rejected:
        trace.debug("%s %s at %s not taken: %s", language, one.version, one.path, one.reason)
    trace.debug("%s %s at %s taken", language, best.version, best.path)
    return Choice(best, rejected, remarks)


def named_choice(
    language: str,
    path: Path,
    interpreter_at: Callable[[Path], Interpreter],
    asks: Sequence[VersionAsk],
    grammar: Grammar,
) -> Choice:
    """The interpreter that the person named, whatever the clone asks for; an ask that it does not meet is
    remarked. Raises NoFittingRuntime if the file is none that works."""
    try:
        interpreter = interpreter_at(path)
    except (OSError, ValueError) as error:
        raise NoFittingRuntime(
            f"{path} is no {language} that works: {error}",
            remedy="Name the file of an interpreter after --runtime.",
        ) from error
    remarks = [
        f"{ask.evidence} asks for {ask.text}; {interpreter.version} was named with --runtime"
        for ask in asks
        if ask.strength >= Strength.RANGE and not grammar.admits(ask.specifier, interpreter.version)
    ]
    return Choice(interpreter, [], remarks)


def _usable(
    candidates: Sequence[Interpreter | BrokenInterpreter], unfit: Callable[[Interpreter], str | None]
) -> tuple[list[Interpreter], list[Rejected]]:
    usable, rejected = [], []
    for item in candidates:
        if isinstance(item, BrokenInterpreter):
            rejected.append(Rejected(str(item.path), "?", f"does not work: {item.reason}"))
        elif reason := unfit(item):
            rejected.append(Rejected(str(item.path), item.version, reason))
        else:
            usable.append(item)
    return usable, rejected


def _fitting(
    usable: Sequence[Interpreter], specifiers: dict[VersionAsk, str], grammar: Grammar
) -> list[Interpreter]:
    return [
        interpreter
        for interpreter in usable
        if all(grammar.admits(specifier, interpreter.version) for specifier in specifiers.values())
    ]


def _strongest(
    usable: Sequence[Interpreter], value: Sequence[VersionAsk], grammar: Grammar
) -> tuple[list[Interpreter], dict[VersionAsk, str], list[VersionAsk]]:
    """Where not all asks can hold together whatever is installed: the first pin, and of the other asks
    those that admit a version that it admits."""
    pins = [ask for ask in value if ask.strength is Strength.PIN]
    others = [ask for ask in value if ask not in pins[:1]]
    clashing = [ask for ask in others if pins and _clash(pins[0], ask, grammar)]
    if not clashing:
        return [], {}, []
    kept = {ask: _relaxed(ask, grammar) for ask in value if ask not in clashing}
    return _fitting(usable, kept, grammar), kept, clashing


def _near_the_pin(
    usable: Sequence[Interpreter], value: Sequence[VersionAsk], grammar: Grammar
) -> tuple[list[Interpreter], dict[VersionAsk, str], list[str]]:
    """Where a pinned version is not here: those that all ranges admit and that are nearest to it. A pin says what
    somebody works with, a range what the project can do with. Nothing where there is no range."""
    pins = [ask for ask in value if ask.strength is Strength.PIN]
    ranges = {ask: ask.specifier for ask in value if ask.strength is Strength.RANGE}
    fitting = _fitting(usable, ranges, grammar) if pins and ranges else []
    wanted = _line_number(pins[0].text) if fitting else None
    if wanted is None:
        return [], {}, []
    distances = [abs((_line_number(one.version) or 0) - wanted) for one in fitting]
    near = [one for one, far in zip(fitting, distances, strict=True) if far == min(distances)]
    allowed = next(iter(ranges))
    nearest = f"the nearest that {allowed.text} ({allowed.evidence}) admits is taken"
    return near, ranges, [f"{pin.text} ({pin.evidence}) is not installed; {nearest}" for pin in pins]


def _line_number(text: str) -> int | None:
    """A release line as a number that grows with it: 3.14 is 3014; None where a text names none."""
    match = re.search(r"(\d{1,4})(?:\.(\d{1,3}))?", text)
    return int(match.group(1)) * 1000 + int(match.group(2) or 0) if match else None


def disagree(pin: VersionAsk, other: VersionAsk, grammar: Grammar) -> bool:
    """Whether the other ask admits no version that a pin admits: another patch release is another version."""
    probes = grammar.probes(pin.specifier)
    own = [probe for probe in probes if grammar.admits(pin.specifier, probe)] or probes
    return not any(grammar.admits(other.specifier, probe) for probe in own)


def _clash(pin: VersionAsk, other: VersionAsk, grammar: Grammar) -> bool:
    """Whether no patch release of the pin's line is admitted by the other ask."""
    return not any(grammar.admits(other.specifier, probe) for probe in grammar.probes(pin.specifier))


def _relaxed(ask: VersionAsk, grammar: Grammar) -> str:
    relaxed = grammar.relaxed(ask.specifier) if ask.strength is Strength.PIN else None
    return relaxed or ask.specifier


def _patch_remarks(value: Sequence[VersionAsk], grammar: Grammar) -> list[str]:
    return [
        f"{ask.text} ({ask.evidence}) is not installed; another patch release of the same line is taken"
        for ask in value
        if ask.strength is Strength.PIN and grammar.relaxed(ask.specifier)
    ]


def _against(
    other: Interpreter,
    best: Interpreter,
    specifiers: dict[VersionAsk, str],
    weak: Sequence[VersionAsk],
    grammar: Grammar,
) -> tuple[str, bool]:
    """Why it was not taken, and whether it fits all the same."""
    for ask, specifier in specifiers.items():
        if not grammar.admits(specifier, other.version):
            return f"{ask.evidence} asks for {ask.text}", False
    if other.version == best.version:
        return "the same version, found later", False
    if not grammar.is_final(other.version):
        return "a pre-release", False
    for ask in weak:
        if not grammar.admits(ask.specifier, other.version):
            if grammar.admits(ask.specifier, best.version):
                return f"{ask.evidence} asks for {ask.text}", False
            if grammar.order(other.version) < grammar.order(best.version):
                return (
                    f"it is not the {ask.text} of {ask.evidence} either, and {best.version} is newer",
                    False,
                )
    if grammar.order(other.version) < grammar.order(best.version):
        return f"fits, but {best.version} is newer", True
    return f"fits, but {best.version} is closer to what is asked for", True


def _none_fits(
    language: str, value: Sequence[VersionAsk], usable: Sequence[Interpreter], rejected: Sequence[Rejected]
) -> NoFittingRuntime:
    asked = "; ".join(f"{ask.text} ({ask.evidence})" for ask in value) or "any version"
    here = ", ".join(sorted({interpreter.version for interpreter in usable})) or "none"
    broken = "".join(f"\n  {item.path} ({item.version}): {item.reason}" for item in rejected)
    lines = (
        (f"asked for: {asked}", f"here: {here}", *broken.strip("\n").split("\n"))
        if broken
        else (
            f"asked for: {asked}",
            f"here: {here}",
        )
    )
    return NoFittingRuntime(
        f"no {language} here fits what the clone asks for",
        remedy=f"Install a {language} that fits (your system's package manager or the {language} site has "
        "it), or name one with --runtime PATH to try it all the same.",
        lines=lines,
        place=value[0].evidence if value else None,
    )
