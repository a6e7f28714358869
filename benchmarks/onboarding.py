"""What a person waits for: from a fresh clone to the first good answer, and resolving a list without pins.

    python benchmarks/onboarding.py --wheels FOLDER [--rounds 3]

FOLDER holds the wheels of Django and of the wishes below, fetched by name with the runtime's own client; both
sides read them from the same loopback registry, each round from empty caches in new folders.
"""

from __future__ import annotations

import argparse
import os
import socket
import statistics
import subprocess
import sys
import tempfile
import time
import urllib.request
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from real_python_clones import CLONES

from plainfall.standins.registry import archives_in, serving

PORT = 8765
WISHES = (
    "django djangorestframework flask flask-migrate flask-login fastapi uvicorn pandas matplotlib requests "
    "pillow sqlalchemy"
).split()


class Round:
    """One round's folders and variables."""

    def __init__(self, work: Path, url: str, files: dict[str, str]) -> None:
        self.clone = work / "clone"
        for name, text in files.items():
            file = self.clone / name
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_text(text)
        (self.clone / ".python-version").write_text(f"{sys.version_info[0]}.{sys.version_info[1]}\n")
        self.variables = {
            "HOME": str(work),
            "PATH": os.environ["PATH"],
            "PIP_CONFIG_FILE": "/dev/null",
            "PIP_INDEX_URL": url,
            "PIP_DISABLE_PIP_VERSION_CHECK": "1",
            "PIP_CACHE_DIR": str(work / "hand-cache"),
            "PLAINFALL_CACHE": str(work / "our-cache"),
        }

    def call(self, line: str) -> None:
        done = subprocess.run(
            line, shell=True, cwd=self.clone, env=self.variables, capture_output=True, check=False
        )
        if done.returncode:
            raise SystemExit(f"{line}: {done.stdout.decode()}{done.stderr.decode()}")


def base() -> str:
    return f"{sys.base_prefix}/bin/python{sys.version_info[0]}.{sys.version_info[1]}"


def answer_ours(one: Round) -> None:
    one.call(f"{sys.executable} -m plainfall onboard . --quiet --port {PORT}")


def answer_by_hand(one: Round) -> None:
    """What the README of such a clone says, typed without a pause, and a poll of the port."""
    one.call(
        f"{base()} -m venv .venv && .venv/bin/pip install -q -r requirements.txt && cp .env.example .env"
    )
    settings = "set -a; . ./.env; set +a; "
    one.call(
        f"{settings} .venv/bin/python manage.py migrate && .venv/bin/python manage.py loaddata stations.json"
    )
    one.call("sh -c 'set -a; . ./.env; exec .venv/bin/python manage.py createsuperuser --noinput "
             "--username admin --email admin@localhost.invalid'")  # fmt: skip
    command = f"{settings} exec .venv/bin/python manage.py runserver 127.0.0.1:{PORT}"
    server = subprocess.Popen(command, shell=True, cwd=one.clone, env=one.variables, start_new_session=True,
                              stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)  # fmt: skip
    deadline = time.monotonic() + 60
    while time.monotonic() < deadline:
        try:
            with urllib.request.urlopen(f"http://127.0.0.1:{PORT}/", timeout=5):
                break
        except OSError:
            time.sleep(0.01)
    end = time.perf_counter()
    os.killpg(server.pid, 15)
    server.wait()
    one.ended = end  # type: ignore[attr-defined]


def resolved_ours(one: Round) -> None:
    one.call(f"{sys.executable} -m plainfall onboard . --quiet --until dependencies")


def resolved_by_hand(one: Round) -> None:
    one.call(f"{base()} -m venv .venv && .venv/bin/pip install -q --no-compile -r requirements.txt")
    one.call(".venv/bin/pip check")


def median(rounds: int, url: str, files: dict[str, str], action: Callable[[Round], None]) -> float:
    """The median of the action's seconds over rounds in new folders."""
    times = []
    for _ in range(rounds):
        with tempfile.TemporaryDirectory(prefix="plainfall-bench-", ignore_cleanup_errors=True) as name:
            one = Round(Path(name), url, files)
            start = time.perf_counter()
            action(one)
            times.append(getattr(one, "ended", time.perf_counter()) - start)
            one.call(f"{sys.executable} -m plainfall stop . --quiet")
            with socket.socket() as probe:
                probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
                probe.bind(("127.0.0.1", PORT))
    return statistics.median(times)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0] if __doc__ else "")
    parser.add_argument("--wheels", type=Path, required=True)
    parser.add_argument("--rounds", type=int, default=3)
    options = parser.parse_args()
    django = CLONES["django"]
    listed = {"requirements.txt": "\n".join(WISHES) + "\n", "app.py": ""}
    with serving(archives_in(options.wheels)) as registry:
        for label, files, ours, hand in (
            ("first good answer of a Django clone", django, answer_ours, answer_by_hand),
            ("resolve and install 12 wishes", listed, resolved_ours, resolved_by_hand),
        ):
            mine = median(options.rounds, registry.url, files, ours)
            theirs = median(options.rounds, registry.url, files, hand)
            print(
                f"{label}: ours {mine:.2f} s, by hand {theirs:.2f} s, ratio {theirs / mine:.1f}", flush=True
            )


if __name__ == "__main__":
    main()
