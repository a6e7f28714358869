"""Real projects that nobody here wrote: the time to the first good answer, by `plainfall onboard` and by hand.

    python benchmarks/by_hand.py [--list FILE] [--only WORDS] [--work FOLDER] [--rounds N]

Those of the list that have `hand`: the commands that a person types who knows them already, one after the other
without a pause, the last one being the server, until `hand_url` answers. Both have a fresh clone and an empty
package cache; they take turns. The clients that the commands name are on the path before. Reading the documents,
which takes a person longest, counts nothing. It needs a package index, and is not run by CI."""

from __future__ import annotations

import argparse
import contextlib
import os
import shutil
import signal
import statistics
import subprocess
import sys
import time
import tomllib
from pathlib import Path
from typing import Any

from real_clones import LIMIT, answer, fetched, fetched_for_node, judged, onboarded, repository


def by_hand(row: dict[str, Any], clone: Path, home: Path) -> float:
    """The seconds until the server that the commands start answers. Raises CalledProcessError of a command, or
    TimeoutError."""
    variables = {**os.environ, "HOME": str(home), "PIP_CACHE_DIR": str(home / "pip-cache")}
    *steps, server = row["hand"]
    begin = time.perf_counter()
    for step in steps:
        subprocess.run(["bash", "-c", step], cwd=clone, env=variables, check=True, capture_output=True)
    process = subprocess.Popen(
        ["bash", "-c", server],
        cwd=clone,
        env=variables,
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        start_new_session=True,
    )
    try:
        while not 0 < answer(row["hand_url"])[0] < 400:
            if process.poll() is not None or time.perf_counter() - begin > LIMIT:
                raise TimeoutError(f"{row['hand_url']}: {server} does not answer")
            time.sleep(0.02)
        return time.perf_counter() - begin
    finally:
        with contextlib.suppress(ProcessLookupError):  # it ended by itself
            os.killpg(process.pid, signal.SIGKILL)
        process.wait()


def fresh(row: dict[str, Any], work: Path) -> tuple[Path, Path]:
    """A fresh clone, and an empty home."""
    top = fetched(row["package"], work) if "package" in row else fetched_for_node(row, work)
    repository(top)
    for name in ("home", "cache"):
        shutil.rmtree(work / name, ignore_errors=True)
    (work / "home").mkdir(parents=True)
    return top / row.get("folder", "") if "package" in row else top, work / "home"


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--list", type=Path, default=Path(__file__).with_name("real_clones.toml"))
    parser.add_argument("--only", default="")
    parser.add_argument("--work", type=Path, default=Path("/tmp/plainfall-by-hand"))
    parser.add_argument("--rounds", type=int, default=1)
    options = parser.parse_args()
    program = [sys.executable, "-m", "plainfall"]
    ratios = []
    for row in tomllib.loads(options.list.read_text("utf-8"))["clone"]:
        package = row.get("package") or row["npm"]
        if "hand" not in row or options.only not in f"{package} {row.get('folder', '')}":
            continue
        ours, theirs = [], []
        for _ in range(options.rounds):
            clone, home = fresh(row, options.work)
            theirs.append(by_hand(row, clone, home))
            clone, home = fresh(row, options.work)
            document, seconds = onboarded(clone, home, program)
            up, seen = judged(row, document)
            subprocess.run(
                [*program, "stop", str(clone)], env={**os.environ, "HOME": str(home)}, capture_output=True
            )
            if not up:
                raise SystemExit(f"{package} did not come up: {seen}")
            ours.append(seconds)
        a, b = statistics.median(ours), statistics.median(theirs)
        ratios.append(b / a)
        name = f"{package} {row.get('folder', '')}".strip()
        print(f"ours {a:6.1f} s   by hand {b:6.1f} s   {b / a:5.1f} times   {name}", flush=True)
    if ratios:
        print(f"median of {len(ratios)}: by hand takes {statistics.median(ratios):.1f} times as long")


if __name__ == "__main__":
    main()
