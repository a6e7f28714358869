"""What a run would do, in words: for previews, by the same decisions that the stages take."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from plainfall.clone.commands import Command
from plainfall.ecosystems.shape import Foreseen, InstallJob
from plainfall.errors import BadInput
from plainfall.formats.documents import read_document
from plainfall.kept_records import DataStep
from plainfall.onboarding.part.steps import State, StepResult
from plainfall.onboarding.part.work import Work
from plainfall.settings.unit_settings import SettledFile

__all__ = ["foreseen_command", "foreseen_packages", "foreseen_settings", "new_files", "package_changes"]

_NAMED = 6  # things that are named


def foreseen_packages(
    work: Work, job: InstallJob, before: Sequence[str], *, same_list: bool, lacking: bool
) -> StepResult:
    """What installing would come to: the packages that change, as far as the list alone tells it. ``lacking`` tells
    that something that was installed is gone."""
    place = (job.listed.evidence,)
    told = work.installing.foreseen(job)
    if told is None and before and same_list:
        told = Foreseen(tuple(before))
    if told is None:
        what = f"choose versions for what {job.listed.path} asks for"
        return StepResult(State.TO_DO, what, "only registries can tell which these are", place)
    sure = {_name(label) for label in told.labels}
    labels = [*told.labels, *(one for one in before if _name(one) in told.unsure and _name(one) not in sure)]
    if not labels and not before and not told.unsure:
        return StepResult(State.KEPT, "no packages", f"{job.listed.path} lists none", place)
    if lacking or not before:
        count = f"{len(labels)} packages" if len(labels) != 1 else "1 package"
        why = "installed files are gone" if before else "nothing is installed yet"
        detail = {"laid": sorted(labels), "taken_out": []}
        return StepResult(State.TO_DO, f"install {count}", why, place, detail=detail)
    laid, taken_out, words = package_changes(before, labels)
    title = words or "look at the installed packages again: none changes"
    why = "an option or the interpreter changed" if same_list else f"{job.listed.path} changed"
    if not words and not told.unsure and work.standing().state == "right":
        return StepResult(State.KEPT, title, why, place, detail={"laid": [], "taken_out": []})
    return StepResult(State.TO_DO, title, why, place, detail={"laid": laid, "taken_out": taken_out})


def _name(label: str) -> str:
    return label.rpartition(" ")[0]


def package_changes(before: Sequence[str], after: Sequence[str]) -> tuple[list[str], list[str], str]:
    """Of labels "name version": those that come, those that go for good, and what that is in words ("" where
    nothing changes)."""
    old, new = _by_name(before), _by_name(after)
    changed = [
        f"{name} {_list(old[name])} → {_list(new[name])}"
        for name in old
        if name in new and old[name] != new[name]
    ]
    come = [f"{name} {_list(new[name])}" for name in new if name not in old]
    gone = [f"{name} {_list(old[name])}" for name in old if name not in new]
    laid = sorted({*after} - {*before})
    taken_out = sorted(label for label in before if _name(label) not in new)
    pieces = [
        f"{count} {'package' if count == 1 else 'packages'} {verb}: {', '.join(rows[:_NAMED])}"
        + (f" and {count - _NAMED} more" if count > _NAMED else "")
        for rows, verbs in (
            (changed, ("changes", "change")),
            (come, ("comes", "come")),
            (gone, ("goes", "go")),
        )
        for count in [len(rows)]
        for verb in [verbs[0] if count == 1 else verbs[1]]
        if rows
    ]
    return laid, taken_out, "; ".join(pieces)


def _by_name(labels: Sequence[str]) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for label in sorted(labels):
        name, _, version = label.rpartition(" ")
        found.setdefault(name, []).append(version)
    return found


def _list(versions: Sequence[str]) -> str:
    return " and ".join(versions)


def foreseen_settings(changed: Sequence[SettledFile], remarks: Sequence[str]) -> StepResult:
    """Which files would be made, and which keys added or changed; never a value."""
    words, detail = [], {}
    for one in changed:
        before, after = (
            _values(one, one.file.current.text if one.file.current is not None else ""),
            _values(one, one.text),
        )
        new = [key for key in after if key not in before]
        other = [key for key in after if key in before and after[key] != before[key]]
        detail[one.file.target] = {"added": new, "changed": other}
        if one.file.current is None:
            words.append(f"make {one.file.target} with {len(after)} {'key' if len(after) == 1 else 'keys'}")
            continue
        pieces = [f"add {', '.join(new)}"] if new else []
        pieces += [f"change {', '.join(other)}"] if other else []
        words.append(f"{one.file.target}: {'; '.join(pieces) or 'put what is written in order'}")
    places = tuple(one.file.loaded for one in changed if one.file.loaded is not None)
    why = "the template, the code or what they agree with has more than the file"
    return StepResult(State.TO_DO, "; ".join(words), why, places[:1], tuple(remarks), {"files": detail})


def _values(one: SettledFile, text: str) -> Mapping[str, str]:
    try:
        return {
            entry.key: entry.value for entry in read_document(one.file.kind, text, one.file.target).entries
        }
    except BadInput:
        return {}


def new_files(before: DataStep, files: Sequence[str]) -> list[str]:
    """The migration files that the record of the run before does not name; none where it names no files."""
    return [path for path in files if path not in before.files] if before.files is not None else []


def foreseen_command(
    work: Work, command: Command, stage: str, undone: Sequence[str], files: Sequence[str]
) -> StepResult:
    """That a command would run on a database, and for migrations which files are new or changed since they ran
    last."""
    before = work.state.read(work.part.key, DataStep, stage)
    why = command.reason
    if before.files is not None:
        new = new_files(before, files)
        if new:
            count = "1 new migration" if len(new) == 1 else f"{len(new)} new migrations"
            why = f"{count}: {', '.join(new[:_NAMED])}" + (
                f" and {len(new) - _NAMED} more" if len(new) > _NAMED else ""
            )
        elif before.fingerprint:
            why = "its files, the packages, or the database changed since it ran"
    detail = {"command": command.line}
    return StepResult(State.TO_DO, f"run {command.line}", why, (command.evidence,), tuple(undone), detail)
