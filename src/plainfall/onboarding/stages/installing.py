"""Runtime, environment, dependencies."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from plainfall.clone.parts import Addition, DependencyFile
from plainfall.ecosystems.shape import InstallJob, InstallWishes
from plainfall.errors import ValueNeeded
from plainfall.evidence import Evidence
from plainfall.onboarding.byproducts import PACKAGES
from plainfall.onboarding.edits import Edits
from plainfall.onboarding.foreseen import foreseen_packages
from plainfall.onboarding.stages.tasks import carry_out
from plainfall.onboarding.steps import State, StepResult
from plainfall.onboarding.work import ENVIRONMENT, Work
from plainfall.patterns import regex
from plainfall.runtimes.asks import VersionAsk
from plainfall.runtimes.choice import Choice
from plainfall.settings.answers import install_code
from plainfall.settings.setting import Question
from plainfall.workers import worker_pool
from plainfall.writing import digest_of, digest_of_files

_HOSTS = "registry hosts"
# The record of modules of the standard library that the code imports and newer runtimes lack.
NEEDED_MODULES = "modules of the standard library"

NEEDED_WHEEL = "package without a build"  # the record of one that could not be built for the newest runtime

__all__ = [
    "ADDED",
    "NEEDED_MODULES",
    "NEEDED_WHEEL",
    "dependencies",
    "environment",
    "forget_installed",
    "may_install",
    "runtime",
]


def runtime(work: Work) -> StepResult:
    """Chooses the interpreter; kept if it is the one of the run before."""
    day = work.wishes.install.as_of or work.state.record(work.part.key, "dependencies").get("as_of", "")
    part, recognising = work.part, work.language.recognising
    if day and day != "none" and recognising is not None:
        part = replace(part, asks=(*part.asks, *recognising.asks_of_time(day)))
    wanted = work.state.record(part.key, NEEDED_WHEEL).get("pin")
    if wanted and part.dependencies is not None:
        pinned = (*part.dependencies.pinned, (str(wanted[0]), str(wanted[1])))
        part = replace(part, dependencies=replace(part.dependencies, pinned=pinned))
    for module in work.state.record(part.key, NEEDED_MODULES).get("modules", ()):
        if recognising is not None:
            part = replace(part, asks=(*part.asks, *recognising.asks_for_module(module)))
    choice = work.environment.choose_runtime(
        part, work.surroundings, work.wishes.runtime, work.progress, offline=work.preview
    )
    work.choice = choice
    taken = choice.taken
    work.fingerprints["runtime"] = taken.identity
    before = work.state.record(work.part.key, "runtime")
    same = before.get("identity") == taken.identity
    if not same and not work.preview:
        record = {"identity": taken.identity, "file": str(taken.file), "version": taken.version}
        work.state.keep(work.part.key, "runtime", record)
    return StepResult(
        State.KEPT if same else State.TO_DO if work.preview else State.DONE,
        f"{work.language.title} {taken.version} at {taken.file}",
        why_runtime(part.asks, choice),
        tuple(ask.evidence for ask in part.asks),
        tuple(one for one in choice.remarks if " is taken: for " not in one),
        {
            "asked": [
                {"text": ask.text, "source": ask.source, "evidence": [ask.evidence.as_json()]}
                for ask in part.asks
            ],
            "chosen": {"version": taken.version, "path": str(taken.path), "file": str(taken.file)},
            "rejected": [
                {"path": other.path, "version": other.version, "reason": other.reason}
                for other in choice.rejected
            ],
        },
        tuple(one for one in choice.remarks if " is taken: for " in one),
    )


def why_runtime(asks: Sequence[VersionAsk], choice: Choice) -> str:
    """The asks in one line, or that nothing is asked."""
    if not asks:
        return "no version is asked for; the newest release here"
    strong = sorted(asks, key=lambda ask: -ask.strength)
    asked = ", ".join(f"{ask.text} ({ask.evidence})" for ask in strong[:4])
    asked += f" and {len(strong) - 4} weaker asks" if len(strong) > 4 else ""
    others = len({other.version for other in choice.rejected if other.version != choice.taken.version})
    return f"asked for: {asked}" + (f"; other versions here: {others}" if others else "")


def environment(work: Work) -> StepResult:
    """Makes the environment, keeps a right one, replaces a wrong one if it is ours."""
    standing = work.standing()
    place = work.folder / standing.path
    name = work.environment_name
    if work.state.record(work.part.key, ENVIRONMENT).get("folder", "") != name and not work.preview:
        work.state.keep(work.part.key, ENVIRONMENT, {"folder": name})
    if not work.preview:
        work.edits = Edits.begin(work.state, work.surroundings.state, work.part.key, place)
    detail = {"path": str(place), "state_before": standing.state, "reason": standing.reason}
    if standing.state == "right":
        why = "right for this interpreter" + ("" if standing.ours else "; not made by Plainfall")
        return StepResult(State.KEPT, standing.path, why, detail=detail)
    if work.preview:
        verb = "replace" if standing.state == "wrong" else "make"
        return StepResult(State.TO_DO, f"{verb} {standing.path}", standing.reason, detail=detail)
    work.watch()
    work.making(PACKAGES, place)
    # A folder of its own: another part may make its environment at the same time.
    making = work.state.folder / "making" / digest_of(work.part.key)[:12]
    name = work.clone.resolve().name
    work.environment.make(work.folder, work.chosen(), name, making, work.access())
    forget_installed(work)
    version = work.chosen().taken.version
    if standing.state == "wrong":
        return StepResult(State.DONE, f"{standing.path} replaced", standing.reason, detail=detail)
    return StepResult(State.DONE, f"{standing.path} made for {work.language.title} {version}", detail=detail)


def forget_installed(work: Work) -> None:
    """Drops what is known of the part's installed packages: they are gone, or in doubt. What was chosen for them
    stays."""
    before = work.state.record(work.part.key, "dependencies")
    work.state.keep(
        work.part.key, "dependencies", {name: before[name] for name in _CHOICES if name in before}
    )


def dependencies(work: Work) -> StepResult:
    """Makes the environment hold the locked list; kept if neither changed since."""
    listed = _with_added(work)
    inputs = digest_of_files(work.clone, listed.files)
    place = work.folder / work.standing().path
    asked_for = work.wishes.install
    allowed, seconds = install_code(work.tree)
    wishes = replace(
        asked_for, allowed=asked_for.allowed | allowed, code_seconds=seconds or asked_for.code_seconds
    )
    wishes = replace(wishes, hosts=_allowed_hosts(work, wishes))
    before = work.state.record(work.part.key, "dependencies")
    wishes = _with_choices(work, listed, wishes, before)
    instead = {**before.get("instead", {}), **wishes.instead}
    scripts = [command.line for command in work.part.candidates("dependencies")]
    asked = [
        scripts,
        sorted(wishes.extras),
        sorted(wishes.groups),
        sorted(instead.items()),
        sorted(wishes.allowed),
        sorted(wishes.hosts),
        [one.text for one in listed.additions],
        [one.text for one in listed.unlisted] if wishes.from_imports else [],
        wishes.as_of,
        *([wishes.rather] if wishes.rather else []),
        *(["with client"] if wishes.with_client else []),
    ]
    fingerprint = digest_of(inputs, work.chosen().taken.identity, str(place), asked)
    work.fingerprints["dependencies"] = fingerprint
    edits = None if work.preview else work.edits or _edits(work, place)
    edited = edits.settle() if edits is not None else frozenset()
    unchanged = before.get("fingerprint") == fingerprint and not edited
    if unchanged and _all_exist(place, before.get("layout", {})):
        remarks = edits.finish() if edits is not None and edits.own else []
        title = f"{_packages(len(before.get('names', [])))}, as {listed.path} lists them"
        detail = {"laid": [], "kept": before.get("names", []), "taken_out": [], "fetched": 0}
        return StepResult(
            State.KEPT,
            title,
            "list and environment are unchanged",
            (listed.evidence,),
            tuple(remarks),
            detail,
        )
    job = _job(work, listed, replace(wishes, instead=instead), before, edited)
    if edits is None:
        gone = not _all_exist(place, before.get("layout", {}))
        same_list = before.get("inputs") == inputs
        return foreseen_packages(work, job, before.get("names", []), same_list=same_list, lacking=gone)
    work.watch()  # a package of the clone that is built leaves files beside its sources
    worker_pool()  # before the threads that ask registries
    done = work.installing.install(job)
    names = sorted((*done.laid, *done.kept))
    record = {
        "fingerprint": fingerprint,
        "inputs": inputs,
        "names": names,
        "memory": done.memory,
        "layout": done.layout,
        "instead": instead,
        "extras": sorted(wishes.extras),
        "groups": sorted(wishes.groups),
        "allowed": sorted(asked_for.allowed | frozenset(before.get("allowed", ()))),
        "from_imports": wishes.from_imports,
        "as_of": wishes.as_of,
        "rather": wishes.rather,
        "with_client": wishes.with_client,
        "withheld": list(done.withheld),
    }
    changed = bool(done.laid or done.taken_out)
    if wishes.as_of:
        done = replace(done, remarks=(f"versions as of {wishes.as_of}", *done.remarks))
    remarks = [*_beyond_the_list(listed, wishes), *done.remarks, *edits.finish()]
    own = work.part.candidates("dependencies")
    for command in own:
        remarks += carry_out(work, "dependencies", command)
    if own:
        remarks.append(f"the clone's own scripts ran: {', '.join(command.line for command in own)}")
    work.state.keep(work.part.key, "dependencies", record)
    notes = [one for one in remarks if _ONLY_EXPLAINS.search(one)]
    remarks = [one for one in remarks if one not in notes]
    if done.built:
        remarks.append(f"their own code ran: {', '.join(done.built)}")
    if instead:
        taken = ", ".join(f"{name} {version}" for name, version in sorted(instead.items()))
        remarks.append(f"taken for this clone instead of what is listed: {taken}")
    if done.unmanaged:
        remarks.append(
            f"not managed by Plainfall and not listed, left unchanged: {', '.join(done.unmanaged)}"
        )
    return StepResult(
        State.DONE if changed else State.KEPT,
        done.title or _what_was_done(done.laid, done.kept, done.taken_out, done.fetched, done.fetched_bytes),
        f"{listed.path}: {listed.reason}",
        (listed.evidence,),
        tuple(remarks),
        {
            "laid": list(done.laid),
            "kept": list(done.kept),
            "taken_out": list(done.taken_out),
            "fetched": done.fetched,
            "fetched_bytes": done.fetched_bytes,
            "built": list(done.built),
            "resolved": done.resolved,
            "before": before.get("names", []),
        },
        tuple(notes),
    )


def _edits(work: Work, place: Path) -> Edits:
    return Edits.begin(work.state, work.surroundings.state, work.part.key, place)


ADDED = "added packages"
# Of an installer's remarks those that change nothing for the person.
_ONLY_EXPLAINS = regex(r"^\d+ optional packages? |^versions as of ")
# What of a part's record is a choice, and outlives its environment.
_CHOICES = ("instead", "extras", "groups", "allowed", "from_imports", "as_of", "rather", "with_client")


def _with_added(work: Work) -> DependencyFile:
    """The part's list with the packages that were added after a failure, in this run or in earlier ones."""
    listed = work.part.dependencies
    assert listed is not None  # a part without a list has no such step
    rows = work.state.record(work.part.key, ADDED).get("rows", [])
    added = [
        Addition(text, place, place, in_place)
        for text, *where, in_place in rows
        for place in [Evidence(*where)]
    ]
    known = {one.text for one in listed.additions}
    listed = replace(listed, additions=(*listed.additions, *(one for one in added if one.text not in known)))
    work.part = replace(work.part, dependencies=listed)
    return listed


def _with_choices(
    work: Work, listed: DependencyFile, wishes: InstallWishes, before: Mapping[str, Any]
) -> InstallWishes:
    """The wishes with the choices of earlier runs. Raises ValueNeeded where a part has no list and nobody has said
    yet that what its sources import may be installed."""
    wishes = replace(
        wishes,
        extras=_remembered(wishes.extras, before.get("extras", ())),
        groups=_remembered(wishes.groups, before.get("groups", ())),
        allowed=_remembered(wishes.allowed, before.get("allowed", ())),
        from_imports=wishes.from_imports or bool(before.get("from_imports")),
        with_client=wishes.with_client or bool(before.get("with_client")),
        rather=() if "none" in wishes.rather else wishes.rather or tuple(before.get("rather", ())),
        as_of="" if wishes.as_of == "none" else wishes.as_of or str(before.get("as_of", "")),
    )
    if not listed.is_from_imports or wishes.from_imports:
        return wishes
    if all(one.is_well_known for one in listed.unlisted):
        return replace(wishes, from_imports=True)
    names = ", ".join(one.text for one in listed.unlisted)
    places = tuple(f"{one.text}: {one.needed_by.path}:{one.needed_by.line}" for one in listed.unlisted[:8])
    if work.ask is not None:
        why = f"No list names them; the sources import them ({'; '.join(places)}). Write yes to install them."
        answer = work.ask(Question(f"the packages {names}", why, (), False, "no"))
        if (answer or "").strip().lower() in ("y", "yes"):
            return replace(wishes, from_imports=True)
    raise ValueNeeded(
        f"the sources import packages that no list names: {names}",
        place=listed.evidence,
        lines=places,
        remedy="--from-imports installs the packages of these names from your registry. Look at the names first: "
        "anybody may have published a package of a name. Or list them in a requirements.txt.",
    )


def _remembered(asked: frozenset[str], before: Iterable[str]) -> frozenset[str]:
    """The extras or groups of this run and of those before; the word "none" forgets the ones before."""
    return asked - {"none"} if "none" in asked else asked | frozenset(before)


def _beyond_the_list(listed: DependencyFile, wishes: InstallWishes) -> list[str]:
    """What was installed beyond the list, and what was not, in words."""
    remarks = [
        f"{'the project in ' if one.in_place else ''}{one.text}"
        f"{f', for {one.needed_by}' if one.needed_by != one.evidence else ''} ({one.evidence})"
        for one in listed.additions
    ]
    if remarks:
        remarks = [f"also installed: {'; '.join(remarks)}"]
    if listed.unlisted:
        names = ", ".join(f"{one.text} ({one.needed_by})" for one in listed.unlisted[:5])
        if wishes.from_imports:
            remarks.append(f"no list names these, which the sources import: {names}")
        else:
            remarks.append(f"not installed, for no list names them: {names}; --from-imports installs them")
    return remarks


def may_install(work: Work) -> bool:
    """Whether the part's list is not the one that was installed last: a quick look, before the steps."""
    listed = work.part.dependencies
    if listed is None:
        return False
    before = work.state.record(work.part.key, "dependencies").get("inputs")
    return bool(before != digest_of_files(work.clone, listed.files))


def _job(
    work: Work,
    listed: DependencyFile,
    wishes: InstallWishes,
    before: Mapping[str, Any],
    edited: frozenset[str],
) -> InstallJob:
    return InstallJob(
        work.clone,
        work.folder,
        listed,
        work.chosen(),
        work.surroundings,
        wishes,
        work.state.folder / "locks" / work.state.name_of(work.part.key),
        before.get("memory", {}),
        work.progress,
        work.access(edited),
        lambda path: work.making(PACKAGES, path),
    )


def _allowed_hosts(work: Work, wishes: InstallWishes) -> frozenset[str]:
    """The registries for which the clone's own configuration may have the person's variables: those that the
    person allowed for this clone, now or before. On a terminal they are asked, once for each."""
    known = work.state.record("", _HOSTS)
    allowed = frozenset(known.get("allowed", ())) | wishes.hosts
    refused = frozenset(known.get("refused", ())) - wishes.hosts
    listed = work.part.dependencies
    if work.ask is not None and listed is not None:
        job = _job(work, listed, replace(wishes, hosts=allowed), {}, frozenset())
        for one in work.installing.withheld(job):
            if one.host in allowed | refused:
                continue
            names = ", ".join(one.names) or "a login"
            why = f"{one.evidence} wants to send {names} to it. Write yes to allow it for this clone."
            answer = work.ask(Question(f"the registry {one.host}", why, (), False, "no"))
            if (answer or "").strip().lower() in ("y", "yes"):
                allowed |= {one.host}
            else:
                refused |= {one.host}
    record = {"allowed": sorted(allowed), "refused": sorted(refused)}
    if (allowed or refused) and record != known and not work.preview:
        work.state.keep("", _HOSTS, record)
    return allowed


def _all_exist(place: Path, layout: Mapping[str, Sequence[str]]) -> bool:
    """Whether every file that was laid still exists. Names only: a file that someone edits in place to
    find a fault is theirs."""
    if not layout:
        return False
    for folder, names in layout.items():
        try:
            here = set(os.listdir(os.path.normpath(place / folder)))
        except OSError:
            return False
        if not here.issuperset(names):
            return False
    return True


def _what_was_done(
    laid: Sequence[str], kept: Sequence[str], taken_out: Sequence[str], fetched: int, size: int
) -> str:
    text = []
    if laid:
        source = f"{fetched} fetched, {_size(size)}" if fetched else "all from the cache"
        text.append(f"{_packages(len(laid))} installed ({source})")
    if kept:
        text.append(f"{len(kept)} kept")
    if taken_out:
        text.append(f"{len(taken_out)} removed")
    return ", ".join(text) or "nothing is listed"


def _packages(count: int) -> str:
    return "1 package" if count == 1 else f"{count:,} packages"


def _size(size: int) -> str:
    if size < 1_000_000:
        return f"{max(1, size // 1000)} kB"
    return f"{size / 1_000_000:.1f} MB"
