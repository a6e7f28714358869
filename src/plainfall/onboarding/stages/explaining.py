"""Adds to a recognised failure what is known of the clone: which list has the module, what is
installed, who holds the port."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator

from msgspec import Struct

from plainfall.diagnosis.reading import Diagnosis, diagnose
from plainfall.errors import BadInput
from plainfall.failure_facts import NameMissing
from plainfall.failure_kinds import FailureKind
from plainfall.kept_records import Installed
from plainfall.onboarding.part.work import Work
from plainfall.patterns import regex
from plainfall.server.ports import holder_of

__all__ = ["OF_ANOTHER_RUNTIME", "diagnose_for", "mend_words"]

_MODULE_MISSING = "module-missing"
# The code is for a runtime with another standard library, a newer or an older one.
OF_ANOTHER_RUNTIME = (
    FailureKind.MODULE_OF_ANOTHER_RUNTIME,
    FailureKind.NAME_OF_ANOTHER_RUNTIME,
    FailureKind.TYPE_OF_ANOTHER_RUNTIME,
    FailureKind.REMOVED_IN_RUNTIME,
)
# What is known beyond the words, and a remedy goes by.
_IN_CODE, _OWN_MODULE, _NOT_INSTALLED, _UNLISTED = (
    "the number stands in the code",
    "a module of the part's own",
    "not installed",
    "in no list",
)


class _About(Struct, frozen=True):
    """What the clone says about a failure: in words, and the fact that a remedy goes by ("" for none)."""

    words: str
    fact: str = ""


def diagnose_for(work: Work, output: str, status: int | None = None) -> Diagnosis:
    """The diagnosis of a part's output or exit status, with what the clone says about it in the cause."""
    known = diagnose(output, status)
    if known.rule == FailureKind.PACKAGE_ASKED_FOR_MISSING and (here := _installed(work, known.facts.named)):
        name = known.facts.named
        cause = f"the program asks for {name}, and {here} is installed: it cannot be used for another cause"
        remedy = f"See what the import says: plainfall inside -- python -c 'import {name}'"
        return Diagnosis(known.rule, cause, remedy, known.line, "", known.facts)
    if known.rule == FailureKind.CIRCULAR_IMPORT and (lacks := _lacking_module(work, known.line)):
        cause = f"{lacks.named} is not in this clone"
        remedy = "Look whether it is committed, or made by a step that was left out."
        return Diagnosis(FailureKind.OWN_NAME_MISSING, cause, remedy, known.line, "", lacks)
    about = list(_more(work, known))
    more = "; ".join(one.words for one in about)
    facts = {one.fact for one in about}
    if not more and known.rule != FailureKind.SYNTAX:
        return known
    remedy = known.remedy
    if known.rule == FailureKind.PORT_TAKEN and _IN_CODE in facts:
        remedy = "End the program that holds it, or change the number in that line."
        return Diagnosis(known.rule, f"{known.cause} ({more})", remedy, known.line, "", known.facts)
    if known.rule == FailureKind.SYNTAX and (ours := _own_file(work, output)):
        cause = f"the interpreter cannot read {ours}, which Plainfall wrote"
        remedy = "That is a fault of Plainfall's: send the file and this message to its maintainers."
        return Diagnosis(known.rule, cause, remedy, known.line, "", known.facts)
    unlisted = work.part.dependencies.unlisted if work.part.dependencies else ()
    names = {_plain(name) for name in work.installing.package_names(known.facts.named)} if unlisted else set()
    if known.rule.endswith(_MODULE_MISSING) and any(_plain(one.text) in names for one in unlisted):
        remedy = (
            "--from-imports installs the packages that the sources import and no list names "
            f"({', '.join(one.text for one in unlisted)}). Look at the names first; or add them to a list."
        )
        return Diagnosis(known.rule, f"{known.cause} ({more})", remedy, known.line, "", known.facts)
    if known.rule.endswith(_MODULE_MISSING) and _OWN_MODULE in facts:
        name = known.facts.named
        remedy = f"Check the name {name}, and whether its file is in the clone: it may not be committed."
        return Diagnosis(known.rule, f"{known.cause} ({more})", remedy, known.line, "", known.facts)
    if known.rule.endswith(_MODULE_MISSING) and _NOT_INSTALLED in facts:
        remedy = "Install it: plainfall onboard does."
    cause = f"{known.cause} ({more})" if more else known.cause
    # Laying the list again brings only what it lists.
    mend = "" if known.mend == "dependencies" and _UNLISTED in facts else known.mend
    return Diagnosis(known.rule, cause, remedy, known.line, mend, known.facts)


_FROM_PACKAGE = regex(r"cannot import name '(\w+)' from partially initialized module '([\w.]+)'")


def _lacking_module(work: Work, line: str) -> NameMissing | None:
    """The module that a package of the part takes from itself and does not have: the interpreter calls that a
    circle, too."""
    match = _FROM_PACKAGE.search(line)
    if match is None:
        return None
    name, package = match.groups()
    end = f"{package.replace('.', '/')}/"
    first = next((one for one in work.tree.files if f"/{one}".endswith(f"/{end}__init__.py")), None)
    if first is None:
        return None  # a module, or not of this clone
    folder = first.removesuffix("__init__.py")
    if any(one.startswith((f"{folder}{name}.", f"{folder}{name}/")) for one in work.tree.files):
        return None
    try:
        lines = work.tree.text(first).splitlines()
    except BadInput:
        return None  # what it makes or takes from elsewhere is not known
    own = rf"\s*from (?:\.|{re.escape(package)}) import\b"
    others = [line for line in lines if re.search(rf"\b{name}\b(?!\.)", line) and not re.match(own, line)]
    return None if others else NameMissing(name=name, module=package)


def _port_in(line: str) -> int:
    """The port that a line of output speaks of, 0 for none: a number behind the word or a colon, and not the
    year or the process that logs name.

    >>> [_port_in(one) for one in ("bind on address ('0.0.0.0', 8000)", "EADDRINUSE :::3000", "in 2026: none")]
    [8000, 3000, 0]
    """
    match = re.search(
        r"(?i)\bports?\b[^\d\n]{0,12}(\d{2,5})\b|[\w\]*]:(\d{4,5})(?![\d:.])|:::?(\d{4,5})\b|"
        r"\('[^'\n]*', (\d{2,5})\)",
        line,
    )
    number = next((int(one) for one in match.groups() if one), 0) if match else 0
    return number if number <= 65_535 else 0


def _own_port(work: Work, said: int) -> tuple[int, str]:
    """The port that a program wanted, and the line of the part's sources that holds it, where that is not the
    one that the part was given ("" otherwise). Where the output names none (``said`` is 0) it is a number of
    the sources on which another program listens, and no server of this clone's own."""
    own = {service.port for service in work.state.services.values()}
    given = work.settled_by().ports.get(work.part.key) if work.settling is not None else None
    if given is None or given == said:
        return said, ""
    for path in work.tree.below(work.part.path):
        name = f"{work.part.path}/{path}" if work.part.path else path
        if not path.endswith(work.language.endings) or re.search(r"(^|/)tests?(/|_)", path):
            continue
        try:
            lines = work.tree.text(name).splitlines()
        except BadInput:
            continue  # no text: nothing stands there
        for number, line in enumerate(lines, 1):
            for match in re.finditer(r"(?<![\d.])(\d{4,5})(?![\d.])", line[:2_000]):
                port = int(match.group(1))
                if port == said or (
                    not said and port not in {given, 0, *own} and port < 65_536 and holder_of(port)
                ):
                    return port, f"{name}:{number}"
    return said, ""


def _own_file(work: Work, output: str) -> str:
    """The file of ours that a syntax error is in, from the clone; "" for a file of anybody else's."""
    named = re.findall(r'File "([^"\n]{1,1000})", line \d+', output)
    place = os.path.realpath(named[-1]) if named else ""
    ours = os.path.realpath(work.state.folder)
    return os.path.relpath(place, work.clone) if place.startswith(f"{ours}/") else ""


def _more(work: Work, known: Diagnosis) -> Iterator[_About]:
    if known.rule.endswith(_MODULE_MISSING) and known.facts.named:
        yield _where(work, known.facts.named)
    elif known.rule in OF_ANOTHER_RUNTIME and known.facts.named:
        recognising = work.language.recognising
        lines = (
            [ask.text for ask in recognising.asks_for_module(known.facts.named)]
            if recognising is not None
            else []
        )
        if lines and work.choice is not None:
            yield _About(
                f"it is in {work.language.title} {', '.join(lines)}, and {work.choice.taken.version} runs"
            )
    elif known.rule == FailureKind.PORT_TAKEN:
        port, place = _own_port(work, _port_in(known.line))
        holder = holder_of(port) if port else None
        if holder is not None:
            yield _About(f"port {port} is in use by {holder}")
        if place:
            yield _About(f"the program takes that port from {place}, whatever it is given", _IN_CODE)
    elif known.rule in (FailureKind.SETTING_MISSING, FailureKind.SETTINGS_IMPROPER) and known.facts.named:
        shown = next((one for one in work.settings_shown if one.key == known.facts.named), None)
        if shown is not None:
            yield _About(f"{shown.file} should hold it; its value is {shown.origin}")


def _where(work: Work, module: str) -> _About:
    """Whether a list of the clone has the module, and whether it was installed, and where."""
    names = {_plain(name) for name in work.installing.package_names(module)}
    top, dot, _ = module.partition(".")
    place = f"{work.part.path}/" if work.part.path else ""
    if dot and any(path.startswith(f"{place}{top}/") for path in work.tree.files):
        return _About(f"{top} belongs to this part, which has no such module", _OWN_MODULE)
    listed = work.part.dependencies
    if here := _installed(work, module):
        nested = _only_within(work, here.rpartition(" ")[0])
        if nested:
            where = f"within another package ({nested}), where the project does not find it"
            return _About(f"{here} is installed only {where}")
        return _About(f"{here} is installed, and has no such module")
    if listed is not None and any(_plain(name) in names for name in listed.names):
        return _About(f"{listed.path} lists it, and it is not installed", _NOT_INSTALLED)
    survey = work.settled_by().survey if work.settling is not None else None
    for part in survey.parts if survey is not None else ():
        other = part.dependencies if part.key != work.part.key else None
        if other is not None and any(_plain(name) in names for name in other.names):
            name = part.key or "the part at the top"
            return _About(f"{name} lists it ({other.path}), this part does not")
    addition = work.installing.package_for(work.tree, work.part, module)
    if addition is not None and addition.in_place:
        return _About(f"it is the project itself ({addition.evidence}), which is not installed")
    if addition is not None and not addition.is_well_known:
        extra = work.installing.extra_with(work.tree, work.part, addition)
        which = f"the extra {extra}" if extra else "another list"
        return _About(f"{which} lists {addition.text} ({addition.evidence}), and it was not installed")
    return _About("no list of this clone has it", _UNLISTED)


def _installed(work: Work, module: str) -> str:
    """The installed package that holds a module, with its version; "" for none."""
    names = {_plain(name) for name in work.installing.package_names(module)}
    installed = work.state.read(work.part.key, Installed).names
    return next((one for one in installed if _plain(one.split()[0]) in names), "")


def _only_within(work: Work, name: str) -> str:
    """The place of a package that lies nowhere but within others; "" for one that the project itself finds."""
    layout = work.state.read(work.part.key, Installed).layout
    places = [str(place) for place in layout if re.search(rf"(^|/){re.escape(name)}$", str(place))]
    inner = [
        place
        for place in places
        if place.count("node_modules/") > 1 or "/node_modules/" in place.lstrip("./")
    ]
    return inner[0] if inner and len(inner) == len(places) else ""


def _plain(name: str) -> str:
    return re.sub(r"[-_.]+", "-", name).lower()


def mend_words(work: Work, known: Diagnosis) -> str:
    """What to add to a remedy that Plainfall can carry out by itself, where that was not asked for already."""
    if work.choices.mends or (known.mend == "migrations" and not work.part.candidates("migrations")):
        return ""
    return " With --mend Plainfall tries that by itself." if known.mend else ""
