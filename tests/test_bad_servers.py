"""Servers that behave badly: each ends in the right verdict, and nothing of it is left."""

from __future__ import annotations

import subprocess
from pathlib import Path

import psutil
import pytest
from bad_servers import BAD_SERVERS, BadServer
from forked import PYTHON

from plainfall.server.ports import free_port, holder_of, is_free
from plainfall.server.probe import probe_page
from plainfall.server.process import MARK, new_mark, start, stop, with_others
from plainfall.server.readiness import wait_until_ready

__all__ = ["certificate", "verdict_of"]


def certificate(folder: Path) -> None:
    """A certificate and its key, for a day and for localhost, in one file."""
    words = "req -x509 -newkey rsa:2048 -nodes -days 1 -subj /CN=localhost -keyout key.pem -out own.pem"
    subprocess.run(["openssl", *words.split()], cwd=folder, check=True, capture_output=True)
    (folder / "certificate.pem").write_text(
        (folder / "key.pem").read_text() + (folder / "own.pem").read_text()
    )


def verdict_of(bad: BadServer, folder: Path, port: int) -> tuple[str, str]:
    """Starts it, waits, probes and ends it; returns the state and what the probe said. Raises AssertionError if
    anything of it is left."""
    (folder / "server.py").write_text(bad.program)
    (folder / "gauge.sock").unlink(missing_ok=True)
    mark = new_mark()
    variables = {"PATH": "/usr/bin:/bin", "BROWSER": "none"}
    command = f"PORT={port} exec {PYTHON} -E -S server.py"
    running, process = start(command, folder, variables, folder / "log", port, mark)
    said = ""
    held = {port}
    try:
        ready = wait_until_ready(running, process, bad.patience, lambda waited: None)
        if ready.state == "answers":
            running = with_others(running)
            held.add(ready.port)
            host = f"[{ready.host}]" if ":" in ready.host else ready.host
            found = probe_page(f"{ready.scheme}://{host}:{ready.port}/", timeout=2.0)
            said = "; ".join((found.problem, *found.notes, f"title {found.title}"))
    finally:
        pids = [pid for pid, _ in running.others]
        stop(running, process, patience=1.0)
    left = [one.pid for one in psutil.process_iter() if _bears(one, mark)]
    left += [pid for pid in pids if psutil.pid_exists(pid) and psutil.Process(pid).status() != "zombie"]
    still = [one for one in held if not is_free(one)]
    if left or still:
        raise AssertionError(f"processes {left}, ports {still} ({[str(holder_of(one)) for one in still]})")
    return ready.state, said


def _bears(process: psutil.Process, mark: str) -> bool:
    try:
        return process.status() != psutil.STATUS_ZOMBIE and process.environ().get(MARK) == mark
    except psutil.Error:
        return False


@pytest.mark.parametrize("bad", BAD_SERVERS, ids=lambda bad: bad.does)
def test_every_bad_server_gets_its_verdict_and_leaves_nothing(bad: BadServer, tmp_path: Path) -> None:
    if "certificate.pem" in bad.program:
        certificate(tmp_path)
    state, said = verdict_of(bad, tmp_path, free_port(9400))
    assert state == bad.state
    if bad.says:
        assert bad.says in said
    elif state == "answers":
        assert said.startswith(";") and ("title Rain" in said), said
