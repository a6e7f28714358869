"""Dev servers: ports, readiness, probes, and ending all that belongs to one."""

from __future__ import annotations

import os
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import psutil
import pytest
from conftest import SERVER, Machine, eventually, listeners
from forked import PYTHON

from plainfall.diagnosis.reading import lines_that_matter
from plainfall.server import process_table
from plainfall.server.page import read_page
from plainfall.server.ports import free_port, holder_of, is_free, with_port
from plainfall.server.probe import probe_page
from plainfall.server.process import belonging, new_mark, start, stop
from plainfall.server.readiness import _Log, wait_until_ready


@pytest.mark.parametrize(
    ("command", "expected"),
    [
        ("gaugeweb serve --port 8000 --reload", "gaugeweb serve --port 9999 --reload"),
        ("gaugeweb serve --port=8000", "gaugeweb serve --port=9999"),
        ("gaugeweb -p 8000", "gaugeweb -p 9999"),
        ("gaugeweb 127.0.0.1:8000", "gaugeweb 127.0.0.1:9999"),
        ("gaugeweb --bind :8000", "gaugeweb --bind :9999"),
        ("gaugeweb --bind [::1]:8000", "gaugeweb --bind [::1]:9999"),
        ("gaugeweb serve app:main --workers 4", None),
        ("gaugeweb --port $PORT", None),
    ],
)
def test_a_literal_port_is_replaced(command: str, expected: str | None) -> None:
    assert with_port(command, 9999) == (expected or command, expected is not None)


def test_taken_ports_are_passed_over_and_their_holder_named() -> None:
    with socket.socket() as held:
        held.bind(("127.0.0.1", 0))
        held.listen()
        port = held.getsockname()[1]
        assert not is_free(port) and free_port(port) != port
        holder = holder_of(port)
        assert (
            holder is not None
            and holder.pid == psutil.Process().pid
            and holder.command == " ".join(psutil.Process().cmdline())
        )
    assert is_free(port) and holder_of(port) is None


def test_a_page_and_what_it_loads() -> None:
    body = (
        b"<title> Rain \n gauge </title><title>no</title><link rel='stylesheet' href='/a.css'>"
        b"<link rel=preload href=/no.css><script src='b.js'></script><img src='//cdn.example/x.png'>"
        b"<img src='data:image/png;base64,x'><img src=/c.png#f><img src=/c.png>"
    )
    page = read_page(body, "http://localhost:8000/sub/")
    assert page.title == "Rain gauge"
    assert list(page.assets) == [f"http://localhost:8000/{path}" for path in ("a.css", "sub/b.js", "c.png")]


class Odd(BaseHTTPRequestHandler):
    """Answers in odd ways, by path."""

    def do_GET(self) -> None:
        if self.path == "/loop":
            self._send(302, b"", Location="/loop")
        elif self.path == "/moved":
            self._send(301, b"", Location="/fine")
        elif self.path == "/away":
            self._send(302, b"", Location="https://elsewhere.example/")
        elif self.path == "/endless":
            self.send_response(200)
            self.end_headers()
            while True:
                self.wfile.write(b"rain " * 2000)
                time.sleep(0.01)
        elif self.path == "/cut":
            self.send_response(200)
            self.send_header("Content-Length", "100")
            self.end_headers()
            self.wfile.write(b"short")
        elif self.path == "/broken":
            self._send(500, b"<title>Error</title>")
        elif self.path == "/half":
            self._send(200, b"<title>Half</title><script src=/none.js></script>")
        elif self.path == "/fine":
            self._send(200, b"<title>Fine</title>")
        else:
            self._send(404, b"nothing")

    def _send(self, status: int, body: bytes, **headers: str) -> None:
        self.send_response(status)
        self.send_header("Content-Type", "text/html")
        self.send_header("Content-Length", str(len(body)))
        for name, value in headers.items():
            self.send_header(name, value)
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, format: str, *args: object) -> None:
        """Nothing is printed."""


@pytest.fixture
def odd() -> Iterator[str]:
    class Server(ThreadingHTTPServer):
        daemon_threads = True

        def handle_error(self, request: object, client_address: object) -> None:
            """The prober hangs up on the endless one, as it should."""

    with Server(("127.0.0.1", 0), Odd) as server:
        threading.Thread(target=server.serve_forever, args=(0.05,), daemon=True).start()
        yield f"http://127.0.0.1:{server.server_address[1]}"
        server.shutdown()


@pytest.mark.parametrize(
    ("path", "status", "problem"),
    [
        ("/fine", 200, ""),
        ("/moved", 200, ""),
        ("/away", 302, ""),
        ("/broken", 500, "status 500"),
        ("/half", 200, "/none.js → 404"),
        ("/loop", 302, "redirects for ever: /loop → /loop"),
        ("/endless", 200, ""),
        ("/cut", 200, "breaks off"),
        ("/nowhere", 404, "status 404"),
    ],
)
def test_odd_answers_are_judged(odd: str, path: str, status: int, problem: str) -> None:
    found = probe_page(odd + path, timeout=2)
    assert found.status == status and problem in found.problem and bool(found.problem) == bool(problem)


def test_an_endless_answer_and_a_short_one_do_not_hang(odd: str) -> None:
    begin = time.monotonic()
    assert probe_page(f"{odd}/endless", timeout=1).status == 200
    probe_page(f"{odd}/cut", timeout=1)
    assert time.monotonic() - begin < 6
    silent = probe_page("http://127.0.0.1:9/", timeout=1)
    assert silent.status == 0 and "no answer" in silent.problem


BEHAVIOURS = {
    "plain": SERVER,
    "ignores being asked": "import signal\nsignal.signal(signal.SIGTERM, signal.SIG_IGN)\n" + SERVER,
    "leaves the session": "import os\nif os.fork():\n    os._exit(0)\nos.setsid()\nif os.fork():\n    os._exit(0)\n"
    + SERVER,
    "has children": "import subprocess, sys\nsubprocess.Popen([sys.executable, '-c', 'import time; time.sleep(99)'])\n"
    + SERVER,
    "takes another port": SERVER.replace('int(os.environ["PORT"])', 'int(os.environ["PORT"]) + 1'),
    "answers late": "import time\ntime.sleep(0.7)\n" + SERVER,
}


@pytest.mark.parametrize("behaviour", BEHAVIOURS)
def test_every_server_is_found_ready_and_ended_whole(tmp_path: Path, behaviour: str) -> None:
    (tmp_path / "server.py").write_text(BEHAVIOURS[behaviour])
    port = free_port(8700)
    variables = {"PATH": "/usr/bin:/bin", "PORT": str(port)}
    command = f"{PYTHON} server.py"
    running, process = start(command, tmp_path, variables, tmp_path / "log", port, new_mark())
    ready = wait_until_ready(running, process, 15, lambda waited: None)
    assert ready.state == "answers", (tmp_path / "log").read_text()
    assert ready.port == port + (behaviour == "takes another port")
    pids = belonging(running)
    assert pids
    ended = stop(running, process)
    assert set(pids) <= set(ended)
    assert not any(psutil.pid_exists(pid) and psutil.Process(pid).status() != "zombie" for pid in pids)
    assert listeners(ready.port) == [] and belonging(running) == []


def test_a_server_that_asks_is_not_waited_for(tmp_path: Path) -> None:
    (tmp_path / "server.py").write_text("print('answer:', repr(input('sure? ')))\n")
    command = f"{PYTHON} server.py"
    running, process = start(command, tmp_path, {"PATH": "/bin"}, tmp_path / "log", 8790, new_mark())
    ready = wait_until_ready(running, process, 10, lambda waited: None)
    assert (ready.state, ready.question) == ("asks", "sure?") and ready.seconds < 5
    stop(running, process)


def test_the_developers_variables_do_not_reach_the_project(machine: Machine) -> None:
    text = SERVER.replace('b"<title>Gauge</title>ok"', "repr(sorted(os.environ)).encode()")
    clone = machine.clone({"Procfile": "web: python app.py\n", "app.py": text, ".env.example": "RAIN=wet\n"})
    machine.variables["CLOUD_TOKEN"] = "private"
    run = machine.run("onboard", clone, "--port", "8795", "--json")
    assert run.status == 0, run.err
    import urllib3

    seen = urllib3.PoolManager().request("GET", run.document["servers"][0]["url"]).data.decode()
    assert (
        "'RAIN'" in seen and "'PATH'" in seen and "CLOUD_TOKEN" not in seen and "PLAINFALL_CACHE" not in seen
    )


def test_the_lines_that_matter_of_a_traceback() -> None:
    output = "start\nTraceback (most recent call last):\n" + "".join(
        f'  File "<frozen importlib._bootstrap>", line {n}, in x\n  File "app.py", line {n}, in y\n    call()\n    ^^^^^^\n'
        for n in range(9)
    )
    lines = lines_that_matter(output + "ValueError: rain\nafterwards\n")
    assert lines[0].startswith("Traceback") and lines[-1] == "ValueError: rain" and len(lines) <= 12
    assert not any("frozen" in line or "^^^" in line for line in lines)
    assert lines_that_matter("one\nfatal: two\nthree\n") == ("fatal: two",)
    assert lines_that_matter("one\ntwo\n") == ("one", "two")


def test_help_is_quick_to_import() -> None:
    code = "import sys, plainfall.cli.definition as d; d.build_parser(''); print([m for m in sys.modules if 'urllib3' in m or 'rich' in m or 'packaging' in m])"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "[]"


def test_a_server_that_opens_a_browser_opens_none(machine: Machine) -> None:
    opens = "import webbrowser\nprint('opened', webbrowser.open('http://localhost/'), flush=True)\n" + SERVER
    clone = machine.clone({"app.py": opens, "requirements.txt": "", "Procfile": "web: python app.py\n"})
    seen = machine.home / "bin/xdg-open"
    seen.parent.mkdir()
    seen.write_text(f"#!/bin/sh\ntouch {machine.home}/window\n")
    seen.chmod(0o755)
    machine.variables["PATH"] = f"{seen.parent}:{machine.variables['PATH']}"
    run = machine.run("onboard", clone, "--json", DISPLAY=":9")
    assert run.status == 0, run.err
    assert not (machine.home / "window").exists()
    assert "opened True" in (clone / ".plainfall/logs/server.log").read_text()


@pytest.mark.parametrize(
    ("text", "question"),
    [
        ("Install it now? (Y/n) ", "Install it now? (Y/n)"),
        ("Something is already running on port 3000.\n\n? Would you like to use another one? » (Y/n)",
         "? Would you like to use another one? » (Y/n)"),
        ("Name of the station: ", "Name of the station:"),
        ("Overwrite [yes/no]? (yes/no) ", "Overwrite [yes/no]? (yes/no)"),
        ("ready at http://localhost:3000\n", ""),
        ("ready? yes\n", ""),
        ("compiling 12 of 40", ""),
    ],
)  # fmt: skip
def test_questions_at_the_end_of_a_log(tmp_path: Path, text: str, question: str) -> None:
    log = tmp_path / "log"
    log.write_text(text)
    looked = _Log(str(log))
    looked.look()
    assert looked.question() == ""  # it may go on at any moment
    looked.grew -= 60
    assert looked.question() == question


def test_the_process_table_of_proc_equals_that_of_psutil() -> None:
    marked = subprocess.Popen(
        ["sleep", "60"], env={"GAUGE": "rain", "PATH": os.environ["PATH"]}, start_new_session=True
    )
    ended = subprocess.Popen(["true"])
    try:
        assert eventually(lambda: psutil.Process(ended.pid).status() == psutil.STATUS_ZOMBIE)
        for table in (process_table._of_proc, process_table._of_psutil):
            entries = {entry.pid: entry for entry in table()}
            ours, zombie = entries[marked.pid], entries[ended.pid]
            assert (ours.parent, ours.session, ours.is_zombie) == (os.getpid(), marked.pid, False)
            assert ours.has_setting("GAUGE", "rain")
            assert not ours.has_setting("GAUGE", "rai") and not ours.has_setting("AUGE", "rain")
            assert (zombie.parent, zombie.is_zombie) == (os.getpid(), True)
            assert not zombie.has_setting("GAUGE", "rain")
    finally:
        marked.kill()
        marked.wait()
        ended.wait()


WIKI = """\
import http.server, os


class Wiki(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        there = self.path == "/all-pages"
        assert self.path != "/logout"
        self.send_response(200 if there else 404)
        self.send_header("Content-Type", "text/html")
        self.end_headers()
        page = "<title>Rain</title><p>All pages" if there else "<a href=/logout>x</a><a href=/all-pages>All</a>Not yet"
        self.wfile.write(page.encode())


http.server.HTTPServer(("127.0.0.1", int(os.environ["PORT"])), Wiki).serve_forever()
"""


def test_a_first_page_that_does_not_exist_yet_is_passed_by_its_links(machine: Machine) -> None:
    clone = machine.clone({"app.py": WIKI})
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert run.step("probe")["why"].endswith("/, /all-pages")
    # A page that the server itself says to open does as well.
    machine.run("stop", clone)
    said = "print(f'Open http://localhost:{os.environ[\"PORT\"]}/all-pages to see them.', flush=True)\n"
    (clone / "app.py").write_text(
        WIKI.replace("=/all-pages", "=/more").replace("\n\nhttp.server", f"\n\n{said}http.server")
    )
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    (clone / "app.py").write_text(WIKI.replace("=/all-pages", "=/more"))
    machine.run("stop", clone)
    run = machine.run("onboard", clone, "--json")
    assert run.status == 1 and "404" in run.document["failure"]["cause"]
