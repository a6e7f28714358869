"""Starting the programs that run beside a part's server (workers, schedulers, watchers), and ending them."""

from __future__ import annotations

import time
from collections.abc import Iterable
from pathlib import Path

from msgspec.structs import replace

from plainfall.clone.parts import PartFound
from plainfall.clone.second_processes import SecondProcess
from plainfall.diagnosis.reading import lines_that_matter
from plainfall.errors import CommandFailed, UsageProblem
from plainfall.kept_records import ProcessKept
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.records.state import CloneState
from plainfall.onboarding.stages.commands import check_command
from plainfall.onboarding.stages.explaining import diagnose_for
from plainfall.processes import release
from plainfall.server.control_group import make_group
from plainfall.server.logs import end_of_log
from plainfall.server.process import Running, belonging, marked, new_mark, start, stop
from plainfall.writing import digest_of

__all__ = [
    "end_second_process",
    "process_named",
    "processes_everywhere",
    "running_processes",
    "start_second_process",
]

_SECONDS = 1.5  # within which one that cannot work has ended, most often
_PAUSE = 0.05


def process_named(parts: list[PartFound], name: str) -> tuple[PartFound, SecondProcess]:
    """The process of that name, of the first part that has one. Raises UsageProblem with the names that there
    are."""
    for part in parts:
        for process in part.processes:
            if process.name == name:
                return part, process
    names = ", ".join(dict.fromkeys(process.name for part in parts for process in part.processes))
    raise UsageProblem(
        f"no process of this clone is called {name!r}",
        remedy=f"Those that process file, README and compose file name: {names}."
        if names
        else "Process file, README and compose file name none.",
    )


def start_second_process(work: Work, process: SecondProcess) -> ProcessKept:
    """Starts it in the part's folder and environment and returns its record; one that runs and is still right is
    kept. The clone is locked by the caller. Raises CommandFailed with the lines of its log that matter where it
    ends at once."""
    part, name, line = work.part.key, process.name, process.line
    steps = (work.fingerprints.get(stage) for stage in ("runtime", "dependencies", "settings"))
    fingerprint = digest_of(line, *steps)
    before = work.state.second_processes.get((part, name))
    if before is not None:
        if before.fingerprint == fingerprint and before.pid and belonging(Running.of_record(before)):
            return before
        end_second_process(work.state, part, name)
    work.prepare()
    check_command(work, line, process.evidence)
    stage = f"beside-{name}"
    log, mark = work.state.log(part, stage), new_mark()
    group = make_group(mark)
    record = ProcessKept(mark=mark, command=line, log=str(log), group=group)
    # On disk before the start, so that `stop` finds what is left of it after a kill by its mark.
    work.state.keep_second_process(part, name, record)
    output = work.state.open_log(part, stage)
    running, popen = start(line, work.folder, work.variables(), log, 0, mark, output, group)
    try:
        deadline = time.monotonic() + _SECONDS
        while time.monotonic() < deadline:
            status = popen.poll()
            if status is not None and not belonging(running):
                raise _ended(work, process, log, status)
            time.sleep(_PAUSE)
        record = running.kept_in(replace(record, fingerprint=fingerprint))
        release(popen.pid, kept=True)  # it is meant to stay when this process ends
    except BaseException:
        stop(running, popen)
        work.state.keep_second_process(part, name, None)
        raise
    work.state.keep_second_process(part, name, record)
    return record


def _ended(work: Work, process: SecondProcess, log: Path, status: int) -> CommandFailed:
    output = work.masked(end_of_log(log))
    known = diagnose_for(work, output, status)
    return CommandFailed(
        f"`{process.line}` ended at once, with status {status}" + (f": {known.cause}" if known.cause else ""),
        remedy=known.remedy or "Read the lines above; the whole output is in the log.",
        place=process.evidence,
        lines=lines_that_matter(output) or ("(no output)",),
        log=str(log),
    )


def running_processes(state: CloneState) -> dict[tuple[str, str], ProcessKept]:
    """The records, by part and name, of those that run now."""
    records = state.second_processes.items()
    return {key: record for key, record in records if record.pid and belonging(Running.of_record(record))}


def processes_everywhere(clones: Iterable[str], user_state: Path) -> list[tuple[str, str, str, ProcessKept]]:
    """Clone, part, name and record of each process beside a server that runs now, of these clones."""
    results = []
    for clone in sorted(set(clones)):
        if Path(clone).is_dir():
            found = running_processes(CloneState(Path(clone), user_state))
            results += [(clone, part, name, record) for (part, name), record in sorted(found.items())]
    return results


def end_second_process(state: CloneState, part: str, name: str) -> list[int]:
    """Ends one and drops its record; returns the ids of the processes that were ended. Raises ServerFailed if one
    stays."""
    record = state.second_processes[part, name]
    running = Running.of_record(record)
    if not running.pid:  # a run was cut off at its start
        for pid in marked(running.mark, running.group):
            running = Running(pid, 0.0, running.mark, running.command, running.log, 0, group=running.group)
    ended = stop(running)
    state.keep_second_process(part, name, None)
    return ended
