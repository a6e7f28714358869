"""Running a report's script on a fresh copy of a clone, without Plainfall: only runtimes, their clients, a shell."""

from __future__ import annotations

import contextlib
import os
import re
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import urllib3
from conftest import Machine
from selectolax.lexbor import LexborHTMLParser

__all__ = ["same_pages_by_hand"]


def answer_at(url: str) -> str:
    """The page at an address as people know it: its title, else its text."""
    try:
        answer = urllib3.PoolManager(retries=False).request("GET", url, timeout=3)
    except urllib3.exceptions.HTTPError:
        return ""
    found = LexborHTMLParser(answer.data).css_first("title")
    return (
        found.text().strip()
        if found is not None
        else re.sub(r"\d+", "N", answer.data.decode("utf-8", "replace"))
    )


def same_pages_by_hand(
    machine: Machine, clone: Path, tmp_path: Path, seconds: float = 120, **more: str
) -> None:
    """The servers of a clone are looked at and ended; the script then brings a copy of the clone, as it was before the
    first run, to the same pages at the same addresses."""
    shown = machine.run("probe", clone, "--browser", "none", "--json").document["servers"]
    pages = {
        one["pages"][0]["probe"]["url"] if "probe" in one["pages"][0] else one["pages"][0]["url"]: ""
        for one in shown
    }
    pages = {url: answer_at(url) for url in pages}
    assert pages and all(pages.values()), shown
    script = tmp_path / "by-hand.sh"
    run = machine.run("report", clone, "--as", "steps", "--into", script)
    assert run.status == 0, run.err
    assert ".plainfall" not in script.read_text()
    assert machine.run("stop", clone).status == 0
    fresh = tmp_path / "fresh"
    shutil.copytree(
        clone, fresh, symlinks=True, ignore=shutil.ignore_patterns(".venv", "__pycache__", ".git")
    )
    copied = machine.run("clear", fresh, "--data", "--json")
    assert copied.status == 0 and not (fresh / ".plainfall").exists(), copied.err
    variables = {key: value for key, value in machine.variables.items() if not key.startswith("PLAINFALL")}
    # Not the environment of the tests.
    here = [str(Path(sys.base_prefix, "bin")), *variables["PATH"].split(os.pathsep)[1:]]
    variables["PATH"] = os.pathsep.join(here)
    variables["COMPOSER_HOME"] = str(tmp_path / "composer")  # whose user allows a registry without encryption
    (tmp_path / "composer").mkdir(exist_ok=True)
    (tmp_path / "composer/config.json").write_text('{"config": {"secure-http": false}}')
    log = tmp_path / "by-hand.log"
    with log.open("w") as output:
        running = subprocess.Popen(
            ["/bin/sh", str(script)], cwd=fresh, env={**variables, **more}, stdout=output, stderr=output,
            start_new_session=True,
        )  # fmt: skip
        try:
            seen: dict[str, str] = {}
            until = time.monotonic() + seconds
            while seen != pages and time.monotonic() < until and running.poll() is None:
                time.sleep(0.3)
                seen = {url: answer_at(url) for url in pages}
            assert seen == pages, log.read_text() + script.read_text()
        finally:
            with contextlib.suppress(ProcessLookupError):  # it ended by itself
                os.killpg(running.pid, signal.SIGTERM)
            running.wait()
    assert not (fresh / ".plainfall").exists()
