"""Kills at random moments: ``python benchmarks/kills.py [--kills 300] [--seed 1] [--at-once 2]``.

Each trial brings a sample clone into a state (new, onboarded, changed), starts a command (onboard, a run again,
serve, stop, demo) and kills it at a random moment: the whole group, or one of its processes. Then the same clone is
onboarded without disturbance, and what there is then is compared with an undisturbed clone: every file of the
environments and settings (secrets and bytecode aside), the rows of the database, version control's status, and
what is left running after a stop. Prints a line for each difference, and the count.
"""

from __future__ import annotations

import argparse
import hashlib
import os
import random
import re
import shutil
import signal
import sqlite3
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import psutil

from plainfall.standins.building import build_all
from plainfall.standins.node_registry import built_node_packages, serving_node
from plainfall.standins.registry import Archive, serving
from plainfall.standins.sample_clone import make_sample

COMMANDS = ("onboard", "onboard", "again", "again", "serve", "stop", "demo")


class Trial:
    """One user with one clone; ``ports`` begin where no other trial's do."""

    def __init__(self, folder: Path, registries: dict[str, str], port: int) -> None:
        self.home = folder
        self.clone = folder / "raingauge"
        self.port = port
        self.variables = {
            "HOME": str(folder),
            "PATH": os.environ["PATH"],
            "PLAINFALL_CACHE": str(folder / "cache"),
            "PLAINFALL_STATE": str(folder / "state"),
            "LANG": "C.UTF-8",
            "PYTHONDONTWRITEBYTECODE": "1",
            **registries,
        }

    def take(self, sample: Path) -> None:
        """A copy of the sample, whose second server has a port that no other trial has."""
        shutil.copytree(sample, self.clone, symlinks=True)
        (self.clone / "plainfall.toml").write_text(f"[parts.dashboard.settings]\nPORT = {self.port + 20}\n")

    def start(self, *words: object) -> subprocess.Popen[bytes]:
        return subprocess.Popen(
            [sys.executable, "-m", "plainfall", *map(str, words)],
            env=self.variables,
            cwd=self.home,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE,
            start_new_session=True,
        )

    def run(self, *words: object) -> tuple[int, str]:
        process = self.start(*words)
        _, errors = process.communicate(timeout=120)
        return process.returncode, errors.decode("utf-8", "replace")

    def onboard(self) -> tuple[int, str]:
        return self.run("onboard", self.clone, "--port", self.port, "--no-input")

    def picture(self) -> dict[str, str]:
        """What there is, by name: digests of files, rows, status, answers."""
        found = {}
        for root, folders, files in os.walk(self.clone):
            folders[:] = [name for name in folders if name not in (".git", "__pycache__", ".plainfall")]
            for name in [*files, *folders]:
                path = Path(root, name)
                inner = path.relative_to(self.clone).as_posix()
                if path.is_symlink():
                    found[inner] = f"link {os.readlink(path)}"
                elif path.is_file() and not inner.endswith(
                    (".db", ".pyc", ".plainfall.json", "pyvenv.cfg", "/RECORD", "plainfall.toml")
                ):
                    found[inner] = hashlib.sha256(self._plain(path)).hexdigest()[:16]
        database = self.clone / "var/raingauge.db"
        with sqlite3.connect(database) as opened:
            for (table,) in opened.execute("SELECT name FROM sqlite_master WHERE type = 'table'").fetchall():
                rows = opened.execute(f'SELECT count(*) FROM "{table}"').fetchone()
                found[f"table {table}"] = str(rows[0])
        opened.close()
        status = subprocess.run(
            ["git", "-C", str(self.clone), "status", "--porcelain", "-uall"],
            capture_output=True,
            text=True,
            check=True,
        )
        found["status"] = status.stdout
        return found

    def _plain(self, path: Path) -> bytes:
        """A file's content without what differs from clone to clone: the place, ports, secrets."""
        text = path.read_bytes().replace(str(self.clone).encode(), b"CLONE")
        if path.name.startswith(".env"):
            text = re.sub(rb"(?m)^(\w*(SECRET|KEY|TOKEN|PASSWORD)\w*)=.*$", rb"\1=x", text)
        return re.sub(rb"\b\d{4,5}\b", b"N", text) if path.name.startswith(".env") else text

    def left(self) -> list[str]:
        """Processes of this trial, and what runs left half made."""
        found = []
        for process in psutil.process_iter(["pid", "cmdline", "status"]):
            words = " ".join(process.info["cmdline"] or [])
            if (
                str(self.home) in words
                and process.info["status"] != psutil.STATUS_ZOMBIE
                and process.pid != os.getpid()
            ):
                found.append(words[:120])
        return found


def trial(
    number: int, registries: dict[str, str], sample: Path, seed: int, wanted: dict[str, str]
) -> list[str]:
    """One kill; what differs afterwards, in words."""
    draw = random.Random(f"{seed}-{number}")
    folder = Path(tempfile.mkdtemp(prefix=f"kill-{number}-"))
    one = Trial(folder, registries, 20_000 + number % 400 * 40)
    command = draw.choice(COMMANDS)
    try:
        one.take(sample)
        if command != "onboard":
            status, errors = one.onboard()
            if status:
                return [
                    f"{number} {command}: the first run ended with {status}: {errors[errors.find('error') :][:700]}"
                ]
        if command == "again":
            shutil.rmtree(
                draw.choice([one.clone / ".venv", one.clone / "dashboard/node_modules", one.clone / "var"])
            )
        words: list[Any] = ["onboard", one.clone, "--port", one.port, "--no-input"]
        if command == "serve":
            one.run("stop", one.clone)
            words = ["serve", one.clone, "--background", "--port", one.port]
        elif command == "stop":
            words = ["stop", one.clone]
        elif command == "demo":
            words = ["demo", "--into", folder / "demo"]
        process = one.start(*words)
        time.sleep(draw.random() ** 1.5 * (2.6 if command in ("onboard", "demo") else 1.2))
        what = kill(process, draw)
        process.communicate()
        status, errors = one.onboard()
        if status:
            text = errors[errors.find("error") :][:700]
            return [f"{number} {command} ({what}): the last run ended with {status}: {text}"]
        now = one.picture()
        differs = [
            f"{number} {command} ({what}): {name}"
            for name in sorted(now.keys() | wanted.keys())
            if now.get(name) != wanted.get(name)
        ]
        one.run("stop", "--all")
        time.sleep(0.1)
        if command == "demo":
            one.run("stop", folder / "demo")
        differs += [f"{number} {command} ({what}): still runs: {words}" for words in one.left()]
        return differs
    finally:
        one.run("stop", "--all")
        shutil.rmtree(folder, ignore_errors=True)


def kill(process: subprocess.Popen[bytes], draw: random.Random) -> str:
    """Kills the group, the program, or one of its children; says what."""
    kind = draw.choice(("group", "program", "child", "group"))
    try:
        family = psutil.Process(process.pid).children(recursive=True)
    except psutil.Error:
        return "it had ended"
    if kind == "group":
        for one in [process.pid, *(child.pid for child in family)]:
            _send(one)
        return f"all {1 + len(family)}"
    if kind == "child" and family:
        _send(draw.choice(family).pid)
        process.wait(timeout=120)
        return "one child"
    _send(process.pid)
    return "the program alone"


def _send(pid: int) -> None:
    try:
        os.kill(pid, signal.SIGKILL)
    except ProcessLookupError:
        return


@contextmanager
def served() -> Iterator[tuple[dict[str, str], Path]]:
    """The stand-in registries, and the sample clone."""
    built, dashboard = build_all(), built_node_packages()
    with (
        tempfile.TemporaryDirectory() as folder,
        serving([Archive.of(one) for one in built]) as registry,
        serving_node(dashboard) as node,
    ):
        sample = Path(folder, "raingauge")
        make_sample(sample, built, dashboard=dashboard)
        variables = {
            "PIP_INDEX_URL": registry.url,
            "PIP_CONFIG_FILE": "/dev/null",
            "npm_config_registry": node.url,
            "npm_config_userconfig": "/dev/null",
        }
        yield variables, sample


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--kills", type=int, default=300)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--at-once", type=int, default=2)
    options = parser.parse_args()
    begin = time.monotonic()
    with served() as (registries, sample):
        quiet = Trial(Path(tempfile.mkdtemp(prefix="kill-none-")), registries, 19_000)
        quiet.take(sample)
        status, errors = quiet.onboard()
        assert status == 0, errors
        wanted = quiet.picture()
        quiet.run("stop", "--all")
        shutil.rmtree(quiet.home)
        with ThreadPoolExecutor(options.at_once) as pool:
            work = [
                pool.submit(trial, n, registries, sample, options.seed, wanted) for n in range(options.kills)
            ]
            found = [line for future in work for line in future.result()]
    for line in found:
        print(line)
    took = time.monotonic() - begin
    print(f"{options.kills} kills, {len(found)} differences, {took:.0f} s")
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main())
