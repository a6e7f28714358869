"""What the tests stand on: a made-up machine with an empty home, clones in temporary folders, a registry."""

from __future__ import annotations

import contextlib
import ctypes
import fcntl
import json
import os
import shutil
import socket
import struct
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import psutil
import pytest
from forked import run_program
from hypothesis import HealthCheck, settings

from plainfall.errors import BadInput
from plainfall.formats.dotenv import parse_dotenv
from plainfall.formats.values import is_placeholder, is_secret
from plainfall.sealing import Seal
from plainfall.standins.building import Built, wheel_bytes
from plainfall.standins.node_registry import NodeArchive, NodeRegistry, serving_node
from plainfall.standins.registry import Archive, Faults, Registry, serving
from plainfall.writing import read_json


def eventually(condition: Callable[[], object], seconds: float = 20) -> bool:
    """Whether the condition became true within that time; it is looked at every few milliseconds."""
    deadline = time.monotonic() + seconds
    while not condition():
        if time.monotonic() > deadline:
            return False
        time.sleep(0.02)
    return True


def alive(process: psutil.Process | int) -> bool:
    try:
        process = psutil.Process(process) if isinstance(process, int) else process
        return process.is_running() and process.status() != psutil.STATUS_ZOMBIE
    except psutil.Error:
        return False


PYTHON_LINE = f"{sys.version_info[0]}.{sys.version_info[1]}"

# A server that needs nothing installed: it takes its port from PORT, as most do.
SERVER = """\
import os
from http.server import BaseHTTPRequestHandler, HTTPServer

class Page(BaseHTTPRequestHandler):
    def do_GET(self):
        body = b"<title>Gauge</title>ok"
        self.send_response(200)
        self.send_header("Content-Type", "text/html")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

HTTPServer(("127.0.0.1", int(os.environ["PORT"])), Page).serve_forever()
"""


# Generated examples a test: the same in every run, few in the suite, more in .ci/run.
EXAMPLES = int(os.environ.get("PLAINFALL_EXAMPLES", "25"))
settings.register_profile(
    "plainfall",
    max_examples=EXAMPLES,
    derandomize=True,
    database=None,
    deadline=None,
    suppress_health_check=list(HealthCheck),
)
settings.load_profile("plainfall")

_NEW_NETWORK = 0x40000000  # CLONE_NEWNET of unshare(2)


def pytest_configure(config: pytest.Config) -> None:
    """Gives each process of a suite that runs in several a loopback of its own, where this system lets it: two
    that look for free ports on one would take each other's."""
    if not hasattr(config, "workerinput") or ctypes.CDLL(None).unshare(_NEW_NETWORK) != 0:
        return
    with socket.socket() as any_socket:  # SIOCSIFFLAGS: loopback, up
        fcntl.ioctl(any_socket, 0x8914, struct.pack("16sh14x", b"lo", 1))


def pytest_runtest_setup(item: pytest.Item) -> None:
    """Skips a test whose marker ``needs`` names a program that is not on this machine; the reason names it."""
    for mark in item.iter_markers("needs"):
        missing = [program for program in mark.args if shutil.which(program) is None]
        if missing:
            pytest.skip(f"no {' and no '.join(missing)} on this machine")


@dataclass
class Run:
    """A finished run of the program."""

    status: int
    out: str
    err: str

    @property
    def document(self) -> dict[str, Any]:
        found: dict[str, Any] = json.loads(self.out)
        return found

    def step(self, stage: str) -> dict[str, Any]:
        found: dict[str, Any] = next(s for s in self.document["steps"] if s["stage"] == stage)
        return found

    @property
    def states(self) -> dict[str, str]:
        return {step["stage"]: step["state"] for step in self.document["steps"]}


@dataclass
class Machine:
    """A user on a machine of their own: home, cache, variables. ``run`` runs the built program there."""

    home: Path
    variables: dict[str, str] = field(default_factory=dict)
    said: list[str] = field(default_factory=list)

    def run(self, *words: object, timeout: float = 60, **more: str) -> Run:
        status, out, err = run_program([*map(str, words)], {**self.variables, **more}, self.home, timeout)
        if "--reveal" not in words:
            self.said += [out, err]
        return Run(status, out, err)

    def start(self, *words: object) -> subprocess.Popen[str]:
        return subprocess.Popen(
            [sys.executable, "-m", "plainfall", *map(str, words)],
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
            env=self.variables,
            stdin=subprocess.DEVNULL,
            cwd=self.home,
        )

    def clone(self, files: Mapping[str, str | bytes], name: str = "gauges") -> Path:
        folder = self.home / name
        for path, content in files.items():
            file = folder / path
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_bytes(content.encode() if isinstance(content, str) else content)
        return folder


def records(clone: Path) -> dict[str, Any]:
    """What Plainfall recorded of a clone, whoever's seal is on it."""
    content = (read_json(clone / ".plainfall/state.json") or {}).get("content")
    return content if isinstance(content, dict) else {}


def resealed(machine: Machine, clone: Path, path: str, name: str, change: Callable[[Any], Any]) -> None:
    """Changes a sealed document as Plainfall itself would: the seal of this user for this clone is on it."""
    seal = Seal(Path(machine.variables["PLAINFALL_STATE"]), clone)
    found = seal.read_file(clone / path, name)
    (clone / path).parent.mkdir(parents=True, exist_ok=True)
    (clone / path).write_text(seal.text(name, change(found.content if found is not None else None)))


@pytest.fixture(scope="session", autouse=True)
def nothing_leaked_or_touched() -> Iterator[None]:
    """At the end, of all tests of this process: no secret that a run made stands in any output, log, journal or
    record, and nothing that a hostile test had outside of its clone was touched by any other test."""
    yield
    assert LEAKS == []
    hostile = sys.modules.get("hostile")
    outside = hostile.OUTSIDE if hostile is not None else ()
    assert [str(folder) for folder, before in outside if hostile.laid_out(folder) != before] == []  # type: ignore[union-attr]


# What the interpreters of this machine answered in the first test that asked them, as the cache remembers it: each of
# the others would ask them again. Tests of asking have interpreters of their own.
INTERPRETERS: dict[str, str] = {}


@pytest.fixture
def machine(tmp_path: Path) -> Iterator[Machine]:
    home = tmp_path / "home"
    home.mkdir()
    variables = {
        "HOME": str(home),
        "PLAINFALL_CACHE": str(tmp_path / "cache"),
        "PLAINFALL_STATE": str(tmp_path / "state"),
        "PATH": os.pathsep.join([str(Path(sys.executable).parent), "/usr/bin", "/bin"]),
        "PIP_CONFIG_FILE": "/dev/null",
        "PIP_NO_INDEX": "1",
        "LANG": "C.UTF-8",
        "PYTHONDONTWRITEBYTECODE": "1",
    }
    made = Machine(home, variables)
    interpreters = tmp_path / "cache/interpreters"
    for name, answers in INTERPRETERS.items():
        interpreters.mkdir(parents=True, exist_ok=True)
        (interpreters / name).write_text(answers)
    yield made
    for file in interpreters.glob("*.json"):
        INTERPRETERS.setdefault(file.name, file.read_text())
    states = sorted({path.parent for path in tmp_path.rglob(".plainfall/state.json")})
    search_for_secrets(made, states)
    for folder in states:
        if records(folder.parent).get("servers", True):
            made.run("stop", folder.parent)


@pytest.fixture
def roomy(machine: Machine) -> Iterator[Machine]:
    """The machine with a home that other users may enter, as homes have it: servers do not run as root."""
    with tempfile.TemporaryDirectory(dir="/var/tmp", ignore_cleanup_errors=True) as folder:
        os.chmod(folder, 0o755)
        machine.home = Path(folder)
        yield machine
        machine.run("stop", "--all")


# What the search for secrets saw in the whole session: secrets, texts searched, and where one was found.
SECRETS: set[str] = set()
SEARCHED: list[int] = [0]
LEAKS: list[str] = []


def search_for_secrets(made: Machine, states: list[Path]) -> None:
    """Looks for every secret of the clones' settings files, and every password that was made, in all that was
    printed and in all that Plainfall keeps: logs, journal, records, remembered sources."""
    secrets: set[str] = set()
    for state in states:
        for file in state.parent.rglob("*"):
            if file.is_file() and file.name.startswith(".env") and "example" not in file.name:
                with contextlib.suppress(BadInput, UnicodeDecodeError):
                    found = parse_dotenv(file.read_text("utf-8")).values()
                    secrets |= {v for k, v in found.items() if is_secret(k) and not is_placeholder(v)}
        accounts = state / "accounts.json"
        if accounts.is_file():
            secrets |= {str(one["password"]) for one in json.loads(accounts.read_text()).values()}
    secrets = {secret for secret in secrets if len(secret) >= 6}
    if not secrets:
        return
    texts = {f"output {number}": text for number, text in enumerate(made.said)}
    own = ("accounts.json", "settings", "before")  # what holds secrets by design, readable by the user alone
    kept = [file for state in states for file in state.rglob("*") if not set(own) & set(file.parts)]
    kept += list(Path(made.variables["PLAINFALL_CACHE"]).rglob("*.json"))
    files = [file for file in kept if file.is_file() and not file.is_symlink()]  # a link leads to a runtime
    texts |= {str(file): file.read_text("utf-8", "replace") for file in files}
    SECRETS.update(secrets)
    SEARCHED[0] += len(texts)
    test = os.environ.get("PYTEST_CURRENT_TEST", "")
    LEAKS.extend(f"{test}: {place}" for place, text in texts.items() for one in secrets if one in text)


@pytest.fixture
def offer(machine: Machine) -> Iterator[Callable[..., Registry]]:
    """Starts a registry with the given archives, and makes it the machine's own."""
    opened = []

    def start(archives: list[Archive], faults: Faults | None = None) -> Registry:
        context = serving(archives, faults)
        registry = context.__enter__()
        opened.append(context)
        machine.variables["PIP_INDEX_URL"] = registry.url
        machine.variables.pop("PIP_NO_INDEX", None)
        return registry

    yield start
    for context in opened:
        context.__exit__(None, None, None)


@pytest.fixture
def node_registry(machine: Machine) -> Iterator[Callable[..., NodeRegistry]]:
    """Starts a registry of Node packages, and makes it the machine's own; Node is put on its path."""
    opened = []

    def start(archives: list[NodeArchive], login: str = "") -> NodeRegistry:
        context = serving_node(archives, login)
        registry = context.__enter__()
        opened.append(context)
        machine.variables["npm_config_registry"] = registry.url
        machine.variables["PATH"] += os.pathsep + str(Path(shutil.which("node") or "").parent)
        return registry

    yield start
    for context in opened:
        context.__exit__(None, None, None)


def package(name: str = "gaugekit", version: str = "1.0", **more: Any) -> Built:
    """A small wheel of our own."""
    members = {f"{name.replace('-', '_')}/__init__.py": f"VERSION = {version!r}\n".encode()}
    return wheel_bytes(name, version, {**members, **more.pop("members", {})}, **more)


def locked(*built: Built) -> str:
    """A requirements.txt that pins these wheels with their hashes."""
    return "".join(f"{b.name}=={b.version} --hash=sha256:{b.sha256}\n" for b in built)


def listeners(port: int) -> list[int]:
    """Ids of the processes that listen on a port."""
    import psutil

    found = psutil.net_connections("tcp")
    return [c.pid for c in found if c.pid and c.status == "LISTEN" and c.laddr and c.laddr.port == port]
