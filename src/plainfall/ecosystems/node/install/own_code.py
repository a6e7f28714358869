"""Code of their own that packages want to run at install: run where it is allowed, listed where it is not."""

from __future__ import annotations

import os
import subprocess
import tempfile
from collections.abc import Mapping
from pathlib import Path

from plainfall.ecosystems.node.install.laying import Laid
from plainfall.ecosystems.node.install.marks import code_ran
from plainfall.ecosystems.shape import CloneAccess, InstallWishes
from plainfall.errors import CommandFailed
from plainfall.processes import run

__all__ = ["code_remarks", "run_allowed", "withheld_code"]


def run_allowed(
    folder: Path, laid: Laid, wishes: InstallWishes, variables: Mapping[str, str], access: CloneAccess
) -> list[str]:
    """Runs the install code of the packages that may, those that others need first (the deepest places, then
    by name). Returns what ran. Raises CommandFailed with its last lines, also for code that does not end
    within the wishes' seconds; that and all that it started is ended."""
    ran = []
    for place, wants in sorted(laid.wants.items(), key=lambda pair: (-pair[0].count("/"), pair[0])):
        name = place.rpartition("node_modules/")[2]
        if name not in wishes.allowed or place not in laid.fresh:
            continue
        path = os.pathsep.join([str(folder / "node_modules/.bin"), variables.get("PATH", "")])
        for step, text in wants.items():
            environment = {
                **variables,
                "PATH": path,
                "JOBS": "max",
                "npm_lifecycle_event": step,
                "npm_package_name": name,
            }
            _run(f"the install code of {name} ({step}: {text})", text, folder / place, environment, wishes)
        code_ran(folder, place, access)
        ran.append(f"{name} ({', '.join(wants)})")
    return ran


def _run(title: str, text: str, folder: Path, environment: Mapping[str, str], wishes: InstallWishes) -> None:
    # Into a file: what it leaves running in the background would keep a pipe open.
    with tempfile.TemporaryFile() as output:
        try:
            done = run(
                ["/bin/sh", "-c", text],
                environment,
                folder=folder,
                seconds=wishes.code_seconds,
                output=output,
            )
            status, ended = done.status, True
        except subprocess.TimeoutExpired:
            status, ended = -1, False
        output.seek(max(0, output.seek(0, os.SEEK_END) - 64_000))
        lines = tuple(output.read().decode("utf-8", "replace").strip().splitlines()[-8:])
    if not ended:
        raise CommandFailed(
            f"{title} did not end within {wishes.code_seconds:g} s",
            remedy="It was ended, with all that it started. Leave it out, ask its publisher, or let it take "
            "longer: code-seconds under [install] in plainfall.toml.",
            lines=lines,
        )
    if status != 0:
        raise CommandFailed(
            f"{title} ended with status {status}",
            remedy="Read the lines above; without --allow-install-code it is not run.",
            lines=lines,
        )


def withheld_code(laid: Laid, allowed: frozenset[str]) -> tuple[str, ...]:
    """The names of the packages whose own code wants to run and may not."""
    names = (place.rpartition("node_modules/")[2] for place in laid.wants)
    return tuple(sorted({name for name in names if name not in allowed}))


def code_remarks(laid: Laid, allowed: frozenset[str]) -> list[str]:
    """What would run if packages' own code were allowed to at install."""
    rows = []
    for place, wants in sorted(laid.wants.items()):
        name = place.rpartition("node_modules/")[2]
        if name not in allowed:
            mark = ", a native add-on without a prebuilt file" if place in laid.native else ""
            rows.append(f"{name} ({'; '.join(f'{key}: {text}' for key, text in wants.items())}{mark})")
    if not rows:
        return []
    how = "--allow-install-code NAME lets one"
    each = ", ".join(dict.fromkeys(rows))
    return [f"not run, though they want to run code of their own at install ({how}): {each}"]
