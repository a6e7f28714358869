"""Adds to a recognised failure what is known of the clone: which list has the module, what is
installed, who holds the port."""

from __future__ import annotations

import re
from collections.abc import Iterator

from plainfall.diagnosis.reading import Diagnosis, diagnose
from plainfall.onboarding.work import Work
from plainfall.server.ports import holder_of

__all__ = ["diagnose_for", "mend_words"]

_MODULE_MISSING = "module-missing"
_OWN = "belongs to this part, which has no such module"


def diagnose_for(work: Work, output: str, status: int | None = None) -> Diagnosis:
    """The diagnosis of a part's output or exit status, with what the clone says about it in the cause."""
    known = diagnose(output, status)
    more = "; ".join(_more(work, known))
    if not more:
        return known
    remedy = known.remedy
    unlisted = work.part.dependencies.unlisted if work.part.dependencies else ()
    names = {_plain(name) for name in work.installing.package_names(known.thing)} if unlisted else set()
    if known.rule.endswith(_MODULE_MISSING) and any(_plain(one.text) in names for one in unlisted):
        remedy = (
            "--from-imports installs the packages that the sources import and no list names "
            f"({', '.join(one.text for one in unlisted)}). Look at the names first; or add them to a list."
        )
        return Diagnosis(known.rule, f"{known.cause} ({more})", remedy, known.line, "", known.thing)
    if known.rule.endswith(_MODULE_MISSING) and more.endswith(_OWN):
        remedy = (
            f"Check the name {known.thing}, and whether its file is in the clone: it may not be committed."
        )
        return Diagnosis(known.rule, f"{known.cause} ({more})", remedy, known.line, "", known.thing)
    if known.rule.endswith(_MODULE_MISSING) and "not installed" in more:
        remedy = "Install it: plainfall onboard does."
    return Diagnosis(known.rule, f"{known.cause} ({more})", remedy, known.line, known.mend, known.thing)


def _more(work: Work, known: Diagnosis) -> Iterator[str]:
    if known.rule.endswith(_MODULE_MISSING) and known.thing:
        yield _where(work, known.thing)
    elif known.rule == "port-taken":
        match = re.search(r"\b(\d{4,5})\b", known.line)
        holder = holder_of(int(match.group(1))) if match else None
        if holder is not None:
            yield f"it is in use by {holder}"
    elif known.rule in ("setting-missing", "settings-improper") and known.thing:
        shown = next((one for one in work.settings_shown if one.key == known.thing), None)
        if shown is not None:
            yield f"{shown.file} should hold it; its value is {shown.origin}"


def _where(work: Work, module: str) -> str:
    """Whether a list of the clone has the module, and whether it was installed, and where."""
    names = {_plain(name) for name in work.installing.package_names(module)}
    top, dot, _ = module.partition(".")
    place = f"{work.part.path}/" if work.part.path else ""
    if dot and any(path.startswith(f"{place}{top}/") for path in work.tree.files):
        return f"{top} {_OWN}"
    listed = work.part.dependencies
    installed = [str(one) for one in work.state.record(work.part.key, "dependencies").get("names", [])]
    here = next((one for one in installed if _plain(one.split()[0]) in names), None)
    if here:
        return f"{here} is installed, and has no such module"
    if listed is not None and any(_plain(name) in names for name in listed.names):
        return f"{listed.path} lists it, and it is not installed"
    survey = work.settled_by().survey if work.settling is not None else None
    for part in survey.parts if survey is not None else ():
        other = part.dependencies if part.key != work.part.key else None
        if other is not None and any(_plain(name) in names for name in other.names):
            return f"{part.key or 'the part at the top'} lists it ({other.path}), this part does not"
    return "no list of this clone has it"


def _plain(name: str) -> str:
    return re.sub(r"[-_.]+", "-", name).lower()


def mend_words(known: Diagnosis) -> str:
    """What to add to a remedy that Plainfall can carry out by itself."""
    return " With --mend Plainfall tries that by itself." if known.mend else ""
