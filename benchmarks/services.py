"""Private servers: from nothing to the first accepted query, ours against the same by hand, in one run.

    python benchmarks/services.py [--rounds N]

Ours is what the stage `services` does for one server: the data folder (a prepared one from the second time on), the
start, the account and the database. By hand: `initdb` or `mariadb-install-db`, the start, `psql` or `mariadb`
until it answers. Medians, with the smallest and the largest. Only what is on this machine is measured."""

from __future__ import annotations

import argparse
import contextlib
import os
import shutil
import socket
import statistics
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from plainfall.server.process import new_mark
from plainfall.services.engine import Account, Owner, Place, engine_of
from plainfall.services.private import end, launch, make_data

TOP = Path(tempfile.mkdtemp(dir="/var/tmp"))
ACCOUNT = Account("reader", "drops", "gauges")
VARIABLES = {
    "PATH": "/usr/local/bin:/usr/bin:/bin:/usr/sbin:/sbin",
    "LC_ALL": "C.UTF-8",
    "HOME": "/nonexistent",
}


def free_port() -> int:
    with socket.socket() as opened:
        opened.bind(("127.0.0.1", 0))
        return int(opened.getsockname()[1])


def ours(kind: str, cache: Path, folder: Path) -> float:
    """Seconds from an empty folder to a server that lets the account in."""
    engine = engine_of(kind)
    assert engine is not None
    programs = engine.programs(VARIABLES["PATH"].split(":"))
    owner = Owner.needed()
    place = Place(folder / "data", folder / "sockets", owner, VARIABLES)
    place.sockets.mkdir()
    place.own(place.sockets)
    log, port, mark = folder / "log", free_port(), new_mark()
    output = os.open(log, os.O_WRONLY | os.O_CREAT)
    begin = time.perf_counter()
    make_data(engine, programs[0], place, cache)
    running, _ = launch(engine, programs[0], place, port, [ACCOUNT], log, output, mark, lambda _: None)
    took = time.perf_counter() - begin
    end(engine, running)
    return took


def by_hand(kind: str, folder: Path) -> float:
    """Seconds for the same with the server's own programs, typed without a pause."""
    owner = Owner.needed()
    options = owner.options() if owner is not None else {}
    if owner is not None:
        os.chown(folder, owner.user, owner.group)
    data, port = folder / "data", free_port()
    begin = time.perf_counter()
    if kind == "postgres":
        programs = sorted(Path("/usr/lib/postgresql").glob("*/bin"))[-1]
        run = [str(programs / "initdb"), "-D", str(data), "-U", "reader", "--auth=trust"]
        subprocess.run(run, check=True, capture_output=True, **options)
        words = [str(programs / "postgres"), "-D", str(data), "-p", str(port), "-k", str(folder)]
        ask = ["psql", "-h", "127.0.0.1", "-p", str(port), "-U", "reader", "-d", "postgres", "-c", "SELECT 1"]
    elif kind == "mysql":
        run = [
            "mariadb-install-db",
            "--no-defaults",
            f"--datadir={data}",
            "--auth-root-authentication-method=normal",
        ]
        subprocess.run(run, check=True, capture_output=True, **options)
        words = ["mariadbd", "--no-defaults", f"--datadir={data}", f"--port={port}", f"--socket={folder}/s"]
        ask = ["mariadb", "--no-defaults", f"--socket={folder}/s", "-u", "root", "-e", "SELECT 1"]
    else:
        words = ["redis-server", "--port", str(port), "--dir", str(folder)]
        ask = ["redis-cli", "-p", str(port), "PING"]
    with subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, **options) as process:
        while subprocess.run(ask, capture_output=True).returncode != 0:
            time.sleep(0.01)
        took = time.perf_counter() - begin
        process.terminate()
        process.wait(20)
    return took


def measured(action: Callable[[Path], float], rounds: int) -> list[float]:
    """The seconds of each round. Nothing is removed in between: ext4 makes files several times slower right after
    others were removed."""
    times = []
    for _ in range(rounds):
        folder = Path(tempfile.mkdtemp(dir=TOP))
        folder.chmod(0o755)
        times.append(action(folder))
    return times


def shown(name: str, times: list[float]) -> float:
    middle = statistics.median(times)
    print(f"{name:<44} {middle:6.3f} s  ({min(times):.3f} to {max(times):.3f})", flush=True)
    return middle


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--rounds", type=int, default=5)
    rounds = parser.parse_args().rounds
    TOP.chmod(0o755)
    for kind in ("postgres", "mysql", "redis"):
        engine = engine_of(kind)
        if engine is None or not engine.programs(VARIABLES["PATH"].split(":")):
            print(f"{kind}: no program here")
            continue

        def first(folder: Path, kind: str = kind) -> float:
            return ours(kind, folder / "cache", folder)

        with contextlib.nullcontext(Path(tempfile.mkdtemp(dir=TOP))) as kept:
            measured(lambda folder, kind=kind, kept=kept: ours(kind, kept, folder), 1)  # type: ignore[misc]
            a = shown(f"{kind}: ours, the first one ever", measured(first, rounds))
            b = shown(
                f"{kind}: ours, another one",
                measured(lambda folder, kind=kind, kept=kept: ours(kind, kept, folder), rounds),  # type: ignore[misc]
            )
        c = shown(f"{kind}: by hand", measured(lambda folder, kind=kind: by_hand(kind, folder), rounds))  # type: ignore[misc]
        print(f"{kind}: by hand / ours, the first {c / a:.1f}, another {c / b:.1f}")


if __name__ == "__main__":
    try:
        main()
    finally:
        shutil.rmtree(TOP, ignore_errors=True)
