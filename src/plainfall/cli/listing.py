"""What runs of this user's clones, and which ports are kept for them."""

from __future__ import annotations

import time
from pathlib import Path

from plainfall.cli.console import Console
from plainfall.onboarding.records.register import Register, Registered
from plainfall.onboarding.services.service_records import SERVICE_ROW, services_everywhere
from plainfall.onboarding.stages.second_processes import processes_everywhere

__all__ = ["list_servers"]


def list_servers(console: Console, register: Register, user_state: Path) -> int:
    """Lists running servers, what runs beside them, and the ports that are reserved for each clone; returns the
    exit status."""
    rows = register.every()
    owners = {row.clone for row in rows}
    rows = [row for row in rows if not (row.part.startswith(SERVICE_ROW) and Path(row.clone).is_dir())]
    pids = {(row.clone, row.part): row.pids for row in rows}
    beside = processes_everywhere((row.clone for row in rows), user_state)
    services = services_everywhere(owners, user_state)
    if console.json:
        document = {
            "servers": [_row(row, pids[row.clone, row.part]) for row in rows],
            "processes": [
                {
                    "clone": clone,
                    "part": part,
                    "name": name,
                    "pid": record.pid,
                    "command": record.command,
                }
                for clone, part, name, record in beside
            ],
            "services": [
                {
                    "clone": clone,
                    "kind": record.kind,
                    "port": record.port,
                    "pid": record.running.pid,
                }
                for clone, _, record in services
            ],
        }
        console.document(document)
        return 0
    running = [row for row in rows if pids[row.clone, row.part]]
    if not running:
        console.result("no dev server of any clone runs")
    for row in running:
        since = _since(row)
        name = f"{console.shown_path(row.clone)}{f'  {row.part}' if row.part else ''}"
        first = row.running.pid if row.running else 0
        console.result(f"{console.styled(row.url, 'good', out=True)}  {name}")
        console.result(
            console.styled(
                f"    {since}, process {first}: {row.running and row.running.command}", "dim", out=True
            )
        )
    for clone, part, name, record in beside:
        whose = f"{console.shown_path(clone)}{f'  {part}' if part else ''}"
        console.result(f"{console.styled(name, 'good', out=True)}  {whose}")
        console.result(console.styled(f"    process {record.pid}: {record.command}", "dim", out=True))
    for clone, _, service in services:
        head = console.styled(f"{service.title} on port {service.port}", "good", out=True)
        console.result(f"{head}  {console.shown_path(clone)}")
        text = f"    process {service.running.pid}, data in {console.shown_path(service.data)}"
        console.result(console.styled(text, "dim", out=True))
    kept = [row for row in rows if not pids[row.clone, row.part]]
    if kept and console.verbose:
        console.result("ports kept for servers that do not run:")
        for row in kept:
            console.result(
                f"  {row.port}  {console.shown_path(row.clone)}{f'  {row.part}' if row.part else ''}"
            )
    return 0


def _row(row: Registered, pids: list[int]) -> dict[str, object]:
    return {
        "clone": row.clone,
        "part": row.part,
        "port": row.port,
        "url": row.url if pids else None,
        "running": bool(pids),
        "pids": pids,
        "command": row.running.command if row.running and pids else None,
        "since": row.running.started if row.running and pids else None,
    }


def _since(row: Registered) -> str:
    seconds = time.time() - (row.running.started if row.running else time.time())
    for size, unit in ((86_400, "d"), (3_600, "h"), (60, "min")):
        if seconds >= size:
            return f"up for {seconds / size:.0f} {unit}"
    return f"up for {seconds:.0f} s"
