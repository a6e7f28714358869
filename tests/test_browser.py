"""A page in a browser: what its scripts do, which asking over HTTP cannot see."""

from __future__ import annotations

import contextlib
import json
import os
import tempfile
import time
from pathlib import Path
from unittest.mock import ANY

import pytest
from conftest import Machine

from plainfall.server.browser import browser_here

BROWSER = browser_here(os.environ["PATH"])
needs_browser = pytest.mark.skipif(BROWSER is None, reason="it takes a browser of Chromium's kind")
APP = """import http.server, json, os

KNOWN = json.load(open('pages.json'))


class Page(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        status, kind, text = KNOWN.get(self.path, (404, 'text/plain', 'no such gauge'))
        self.send_response(status)
        self.send_header('Content-Type', kind)
        self.end_headers()
        self.wfile.write(text.encode())


http.server.ThreadingHTTPServer(('127.0.0.1', int(os.environ['PORT'])), Page).serve_forever()
"""
HEAD = "<!doctype html><title>Gauges</title><h1>Gauges</h1>"


def served(machine: Machine, page: str, **more: tuple[int, str, str]) -> Path:
    """A running server of the page, and of others by their names."""
    pages = {"/": (200, "text/html", page), **{f"/{name}": answer for name, answer in more.items()}}
    clone = machine.clone(
        {
            "app.py": APP,
            "pages.json": json.dumps(pages),
            "requirements.txt": "",
            "Procfile": "web: python app.py\n",
        }
    )
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    return clone


@needs_browser
@pytest.mark.parametrize(
    "page, more, problem, errors, failed",
    [
        (HEAD + "<script>document.title = 'Drops'</script>", {}, "", [], []),
        (
            HEAD + "<script>setTimeout(() => stations.sort(), 200)</script>",
            {},
            "a script of the page failed: ReferenceError: stations is not defined",
            ["ReferenceError: stations is not defined"],
            [],
        ),
        (HEAD + "<script>console.error('no', 'volunteer')</script>", {}, "", ["no volunteer"], []),
        (
            HEAD + "<script>fetch('/drops').then(() => fetch('/none'))</script>",
            {"drops": (500, "text/plain", "no")},
            "a request of the page failed: ",
            [],
            [("drops", 500), ("none", 404)],
        ),
        (HEAD + "<script>fetch('/none')</script>", {}, "", [], [("none", 404)]),
        (
            "<!doctype html><title>G</title><script src=http://cdn.invalid/rain.js></script><script>Rain.start()</script>",
            {},
            "",
            ["ReferenceError: Rain is not defined"],
            [("rain.js", 0)],
        ),
        ("<!doctype html><title>Gauges</title><div id=root></div>", {}, "nothing is to be seen on it", [], []),
        (
            HEAD + "<script>const o = document.createElement('vite-error-overlay'); o.attachShadow({mode: 'open'})"
            ".innerHTML = '<b>stations.js cannot be read</b>'; document.body.append(o)</script>",
            {},
            "its dev server shows an error over it: stations.js cannot be read",
            [],
            [],
        ),
    ],
    ids=["good", "late error", "console", "failed request", "refused to a guest", "elsewhere", "blank", "overlay"],
)  # fmt: skip
def test_what_a_browser_reports(
    machine: Machine,
    page: str,
    more: dict[str, tuple[int, str, str]],
    problem: str,
    errors: list[str],
    failed: list[tuple[str, int]],
    tmp_path: Path,
) -> None:
    clone = served(machine, page, **more)
    run = machine.run("probe", clone, "--json")
    [look] = run.document["servers"]
    assert look["probe"]["problem"] == "" or problem.startswith("nothing")
    seen = look["browser"]
    assert seen["problem"].startswith(problem) and bool(seen["problem"]) == bool(problem)
    assert len(seen["errors"]) == len(errors)
    assert all(text.startswith(said) for text, said in zip(seen["errors"], errors, strict=True))
    assert [(one["url"].rpartition("/")[2], one["status"]) for one in seen["failed"]] == failed
    assert run.status == (1 if problem else 0)
    shown = machine.run("probe", clone)
    assert ("in " in shown.out and " bad" in shown.out) == bool(problem)
    alone = machine.run("probe", clone, "--browser", "none", "--json").document["servers"][0]
    assert alone["browser"] is None
    if problem:
        return
    # A folder for temporary files with a long path will not do for a browser's sockets; one with a short path does.
    machine.variables["TMPDIR"] = str(tmp_path)
    assert machine.run("probe", clone, "--json").document["servers"][0]["browser"] == {**seen, "seconds": ANY}
    with tempfile.TemporaryDirectory(prefix="rain-", dir="/tmp") as short:
        machine.variables["TMPDIR"] = short
        machine.run("probe", clone)
        until = time.monotonic() + 5
        while running_in(Path(short)) and time.monotonic() < until:
            time.sleep(0.05)  # what was killed is gone in a moment
        assert not running_in(Path(short)) and not list(Path(short).iterdir())


def running_in(folder: Path) -> list[str]:
    """The browsers' processes whose profile lies in a folder."""
    found = []
    for file in Path("/proc").glob("[0-9]*/cmdline"):
        with contextlib.suppress(OSError):
            line = file.read_bytes().decode("utf-8", "replace")
            if f"{folder}/plainfall-browser-" in line:
                found.append(line)
    return found


def test_browsers_that_are_none(machine: Machine) -> None:
    clone = served(machine, HEAD)
    missing = machine.run("probe", clone, "--browser", "nix")
    assert missing.status == 2 and "nix is no program here" in missing.err
    named = machine.run("probe", clone, "--browser", "true")
    assert (
        named.status == 1 and "could not be driven: it ended" in named.err and "--browser none" in named.err
    )
    folder = machine.home / "bin"
    folder.mkdir()
    (folder / "chromium").write_text("#!/bin/sh\nprintf 'gauge\\0' >&4; exec sleep 30\n")
    (folder / "chromium").chmod(0o755)
    machine.variables["PATH"] = f"{folder}{os.pathsep}{machine.variables['PATH']}"
    odd = machine.run("probe", clone)
    assert odd.status == 0 and "what the page's scripts do was not seen" in odd.out
    (folder / "chromium").unlink()
    machine.variables["PATH"] = os.pathsep.join(
        one for one in machine.variables["PATH"].split(os.pathsep) if browser_here(one) is None
    )
    none = machine.run("probe", clone)
    assert none.status == 0 and "no browser is here (Chromium or one of its kin)" in none.out
