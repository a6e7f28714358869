"""``plainfall stop``: end what runs."""

from __future__ import annotations

import argparse
import json
from pathlib import Path

from plainfall.cli.console import Console
from plainfall.onboarding.servers import stop_servers

__all__ = ["run"]


def run(options: argparse.Namespace, console: Console) -> int:
    """Ends each recorded server and says what was ended."""
    stopped = stop_servers(Path(options.clone).absolute())
    if console.json:
        rows = [{"part": s.part, "port": s.port, "ended": s.ended, "port_free": s.port_free} for s in stopped]
        console.result(json.dumps({"outcome": "done", "stopped": rows}, indent=2))
        return 0
    if not stopped:
        console.result("no dev server of this clone was running")
    for server in stopped:
        name = f"{server.part}: " if server.part else ""
        if not server.ended:
            console.result(f"{name}its processes had ended before")
            continue
        count = len(server.ended)
        processes = "1 process" if count == 1 else f"{count} processes"
        port = "is free" if server.port_free else "is held by another program"
        console.result(
            f"{name}ended {processes} ({', '.join(map(str, server.ended))}); port {server.port} {port}"
        )
    return 0
