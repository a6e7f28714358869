"""The packages of a part: what its list comes to, laid into its environment."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from plainfall.clone.commands import Command
from plainfall.clone.parts import DependencyFile
from plainfall.ecosystems.shape import Installation, InstallJob, InstallWishes
from plainfall.evidence import Evidence
from plainfall.kept_records import Installed
from plainfall.onboarding.part.edits import Edits
from plainfall.onboarding.part.planning import Planned, left_out
from plainfall.onboarding.part.results import PackagesResult
from plainfall.onboarding.part.steps import State, Step, StepResult
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.stages.foreseen import foreseen_packages
from plainfall.onboarding.stages.install_wishes import (
    installed_before,
    job_for,
    wishes_of,
    with_packages,
)
from plainfall.onboarding.stages.root_cause import record_of
from plainfall.onboarding.stages.stage import Stage
from plainfall.onboarding.stages.tolerant_commands import carry_out
from plainfall.workers import worker_pool
from plainfall.writing import digest_of, digest_of_files

__all__ = ["dependencies", "may_install", "plan"]


def plan(planned: Planned) -> Iterator[Step]:
    """The step that installs what the part's list names."""
    part, listed = planned.part, planned.part.dependencies
    if listed is None:
        yield left_out(part, Stage.DEPENDENCIES, "no dependency list was found in this part")
        return
    verb = "imports" if listed.is_from_imports else "lists"
    title = f"install what {listed.path} {verb} ({listed.count})"
    yield Step(part.key, Stage.DEPENDENCIES, title, listed.reason, (listed.evidence,), dependencies)


class _Plan(Struct, frozen=True):
    """What is to be installed, and by what it is told whether it still is: ``own`` are the clone's own scripts that
    run with it, ``left_out`` those that do not."""

    listed: DependencyFile
    wishes: InstallWishes
    before: Installed
    inputs: str
    fingerprint: str
    place: Path
    own: tuple[Command, ...]
    left_out: tuple[Command, ...]


def dependencies(work: Work) -> StepResult:
    """Makes the environment hold the locked list; kept if neither changed since."""
    plan = _planned(work)
    return replace(_laid(work, plan), hands_on=PackagesResult(plan.fingerprint))


def _laid(work: Work, plan: _Plan) -> StepResult:
    edits = None if work.preview else work.edits or _edits(work, plan.place)
    edited = edits.settle() if edits is not None else frozenset()
    all_there = _all_exist(plan.place, plan.before.layout)
    if plan.before.fingerprint == plan.fingerprint and not edited and all_there:
        return _as_it_is(plan, edits)
    job = job_for(work, plan.listed, plan.wishes, plan.before, edited)
    if edits is None:
        same_list = plan.before.inputs == plan.inputs
        names = list(plan.before.names)
        return foreseen_packages(work, job, names, same_list=same_list, lacking=not all_there)
    work.watch()  # a package of the clone that is built leaves files beside its sources
    worker_pool()  # before the threads that ask registries
    done = work.installing.install(job)
    remarks = [*_beyond_the_list(plan.listed, plan.wishes), *done.remarks, *edits.finish()]
    for command in plan.own:
        remarks += carry_out(work, "dependencies", command)
    if plan.own:
        remarks.append(f"the clone's own scripts ran: {', '.join(command.line for command in plan.own)}")
    remarks += _own_code_words(job, work.installing.runs_own_code(job), plan.left_out)
    work.state.keep(work.part.key, _record(work, plan, done))
    return _result(plan, done, [*remarks, *_what_else(plan, done)])


def _planned(work: Work) -> _Plan:
    listed = with_packages(work)
    inputs = digest_of_files(work.clone, listed.files)
    place = work.folder / work.standing().path
    before = installed_before(work)
    wishes = wishes_of(work, listed)
    every = work.part.candidates("dependencies")
    own = tuple(command for command in every if wishes.lets_run(command.evidence.path))
    asked = [
        [command.line for command in own],
        sorted(wishes.extras),
        sorted(wishes.groups),
        sorted(wishes.instead.items()),
        sorted(wishes.allowed),
        sorted(wishes.hosts),
        [one.text for one in listed.additions],
        [one.text for one in listed.unlisted] if wishes.from_imports else [],
        wishes.as_of,
        *([wishes.rather] if wishes.rather else []),
        *([wishes.held_back] if wishes.held_back else []),
        *(["with client"] if wishes.with_client else []),
    ]
    code = work.installing.runs_own_code(job_for(work, listed, wishes, Installed(), frozenset()))
    if any(not wishes.lets_run(one.path) for one in code):
        asked.append("without the clone's own code")
    fingerprint = digest_of(inputs, work.chosen().taken.identity, str(place), asked)
    left_out = tuple(one for one in every if one not in own)
    return _Plan(listed, wishes, before, inputs, fingerprint, place, own, left_out)


def _as_it_is(plan: _Plan, edits: Edits | None) -> StepResult:
    names = list(plan.before.names)
    return StepResult(
        State.KEPT,
        f"{_packages(len(names))}, as {plan.listed.path} lists {'it' if len(names) == 1 else 'them'}",
        "list and environment are unchanged",
        (plan.listed.evidence,),
        tuple(edits.finish() if edits is not None and edits.own else ()),
        {"laid": [], "kept": names, "taken_out": [], "fetched": 0},
    )


def _record(work: Work, plan: _Plan, done: Installation) -> Installed:
    names, asked = sorted((*done.laid, *done.kept)), work.choices.packages_asked
    return Installed(
        fingerprint=plan.fingerprint,
        inputs=plan.inputs,
        names=tuple(names),
        memory=done.memory,
        layout=done.layout,
        instead={
            name: version for name, version in plan.wishes.instead.items() if name in _plain_names(names)
        },
        extras=tuple(sorted(asked.extras)),
        groups=tuple(sorted(asked.groups)),
        allowed=tuple(sorted(asked.allowed)),
        from_imports=plan.wishes.from_imports,
        as_of=asked.as_of,
        rather=tuple(asked.rather),
        with_client=plan.wishes.with_client,
        withheld=tuple(done.withheld),
        not_built=record_of(done.not_built),
    )


def _plain_names(labels: Sequence[str]) -> set[str]:
    return {label.rpartition(" ")[0] for label in labels}


def _what_else(plan: _Plan, done: Installation) -> list[str]:
    """What the person has to know of the packages beyond their number."""
    here = _plain_names((*done.laid, *done.kept))
    words = []
    if done.built:
        words.append(f"their own code ran: {', '.join(done.built)}")
    taken = [f"{name} {version}" for name, version in sorted(plan.wishes.instead.items()) if name in here]
    if taken:
        words.append(f"taken for this clone instead of what is listed: {', '.join(taken)}")
    absent = sorted(name for name in plan.wishes.instead if name not in here)
    if absent:
        words.append(f"--instead changed nothing for {', '.join(absent)}: no such package is installed")
    if done.unmanaged:
        words.append(f"not managed by Plainfall and not listed, left unchanged: {', '.join(done.unmanaged)}")
    return words


def _result(plan: _Plan, done: Installation, remarks: Sequence[str]) -> StepResult:
    day = plan.wishes.as_of
    return StepResult(
        State.DONE if done.laid or done.taken_out else State.KEPT,
        done.title or _what_was_done(done.laid, done.kept, done.taken_out, done.fetched, done.fetched_bytes),
        f"{plan.listed.path}: {plan.listed.reason}",
        (plan.listed.evidence,),
        tuple(remarks),
        {
            "laid": list(done.laid),
            "kept": list(done.kept),
            "taken_out": list(done.taken_out),
            "fetched": done.fetched,
            "fetched_bytes": done.fetched_bytes,
            "built": list(done.built),
            "resolved": done.resolved,
            "before": list(plan.before.names),
        },
        (*([f"versions as of {day}"] if day else []), *done.notes),
    )


def may_install(work: Work) -> bool:
    """Whether the part's list is not the one that was installed last: a quick look, before the steps."""
    listed = work.part.dependencies
    if listed is None:
        return False
    return installed_before(work).inputs != digest_of_files(work.clone, listed.files)


def _own_code_words(job: InstallJob, places: Sequence[Evidence], left_out: Sequence[Command]) -> list[str]:
    """What of the clone's own code ran to install packages, and what did not, in words."""
    words = []
    ran = [one for one in places if job.wishes.lets_run(one.path)]
    if ran:
        words.append(f"the clone's own code was evaluated for its list: {', '.join(str(one) for one in ran)}")
    held = [
        *(str(one) for one in places if one not in ran),
        *(f"{one.line} ({one.evidence})" for one in left_out),
    ]
    if held:
        files = sorted(
            {one.path.rpartition("/")[2] for one in (*places, *(each.evidence for each in left_out))}
        )
        words.append(
            f"not run, since the run ends with the packages: {', '.join(held)}; "
            f"--allow-install-code {files[0]} lets it run"
        )
    return words


def _edits(work: Work, place: Path) -> Edits:
    return Edits.begin(work.state, work.surroundings.state, work.part.key, place)


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
