"""From a server's start to the first verdict: ours, beside a loop that polls the port by hand.

``python benchmarks/serving.py [ROUNDS]``: for each server, in turn, the milliseconds until a hand-written
loop has its page, and until Plainfall has waited and judged the page; medians, and what Plainfall adds.
"""

from __future__ import annotations

import http.client
import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from plainfall.server.ports import free_port
from plainfall.server.probe import probe_page
from plainfall.server.process import new_mark, start, stop, with_others
from plainfall.server.readiness import wait_until_ready

_PYTHON = (
    "import os\nfrom http.server import *\n{before}\n"
    "HTTPServer(('127.0.0.1', int(os.environ['PORT'])), SimpleHTTPRequestHandler).serve_forever()\n"
)
_NODE = (
    "require('http').createServer((a, b) => b.end('<title>ok</title>'))"
    ".listen(process.env.PORT, '127.0.0.1');"
)
_SERVERS = {
    "python": (f"exec {sys.executable} main.py", {"main.py": _PYTHON.format(before="")}),
    "python, a second late": (
        f"exec {sys.executable} main.py",
        {"main.py": _PYTHON.format(before="import time; time.sleep(1)")},
    ),
    "python, a second for the first answer": (
        f"exec {sys.executable} main.py",
        {
            "main.py": _PYTHON.format(
                before="import time\nclass SimpleHTTPRequestHandler(SimpleHTTPRequestHandler):\n"
                "    slow = True\n"
                "    def do_GET(self):\n"
                "        if type(self).slow: type(self).slow = False; time.sleep(1)\n"
                "        super().do_GET()"
            )
        },
    ),
    "node": ("exec node main.js", {"main.js": _NODE}),
}


def by_hand(command: str, folder: Path, port: int) -> float:
    """Seconds until a loop that does nothing else has the page."""
    variables = {"PATH": os.environ["PATH"], "PORT": str(port)}
    begin = time.perf_counter()
    process = subprocess.Popen(
        ["/bin/sh", "-c", command], cwd=folder, env=variables, stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    while True:
        try:
            connection = http.client.HTTPConnection("127.0.0.1", port, timeout=10)
            connection.request("GET", "/")
            connection.getresponse().read()
            break
        except OSError:
            time.sleep(0.005)
    took = time.perf_counter() - begin
    process.kill()
    process.wait()
    return took


def ours(command: str, folder: Path, port: int) -> float:
    """Seconds until Plainfall has its verdict on the page."""
    variables = {"PATH": os.environ["PATH"], "PORT": str(port)}
    begin = time.perf_counter()
    running, process = start(command, folder, variables, folder / "log", port, new_mark())
    ready = wait_until_ready(running, process, 20, lambda waited: None)
    with_others(running)
    found = probe_page(f"http://127.0.0.1:{ready.port}/")
    took = time.perf_counter() - begin
    assert not found.problem, found
    stop(running, process)
    return took


def main(rounds: int) -> None:
    """Measures and prints."""
    for title, (command, files) in _SERVERS.items():
        hand: list[float] = []
        mine: list[float] = []
        for _ in range(rounds):
            for way, rows in ((by_hand, hand), (ours, mine)):
                with tempfile.TemporaryDirectory() as made:
                    for name, text in files.items():
                        Path(made, name).write_text(text)
                    rows.append(way(command, Path(made), free_port(18_000)))
        first, second = statistics.median(hand) * 1000, statistics.median(mine) * 1000
        print(f"{title:<40} by hand {first:7.0f} ms   ours {second:7.0f} ms   added {second - first:5.0f} ms")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 15)
