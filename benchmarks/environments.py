"""Environment and dependencies, side by side: Plainfall, by hand with the runtime's own tools, ``cp -al``.

    python benchmarks/environments.py [--wheels FOLDER] [--rounds 5] [--json FILE]

All read the same folder of wheels from the same loopback registry, in one run, in turn. With no folder given
it makes 40 synthetic wheels of 300 files. Prints medians in seconds and ratios.
"""

from __future__ import annotations

import argparse
import json
import os
import platform
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from wheels import make_wheels, requirements_for

from plainfall.standins.registry import archives_in, serving

Measure = Callable[[], None]


class Bench:
    """The folders and variables of one comparison."""

    def __init__(self, work: Path, url: str, requirements: str) -> None:
        self.work = work
        self.clone = work / "clone"
        self.clone.mkdir()
        (self.clone / "requirements.txt").write_text(requirements)
        (self.clone / ".python-version").write_text(platform.python_version() + "\n")
        self.variables = {
            "HOME": str(work / "home"),
            "PATH": os.environ["PATH"],
            "PIP_CONFIG_FILE": "/dev/null",
            "PIP_INDEX_URL": url,
            "PIP_CACHE_DIR": str(work / "hand-cache"),
            "PIP_DISABLE_PIP_VERSION_CHECK": "1",
            "PLAINFALL_CACHE": str(work / "our-cache"),
        }
        (work / "home").mkdir()

    def call(self, *words: object) -> None:
        done = subprocess.run(
            [str(word) for word in words], cwd=self.clone, env=self.variables, capture_output=True, check=False
        )
        if done.returncode:
            raise SystemExit(f"{words}: {done.stdout.decode()}{done.stderr.decode()}")

    def without(self, *names: str) -> None:
        for name in names:
            shutil.rmtree(self.work / name, ignore_errors=True)

    def ours(self) -> None:
        self.call(sys.executable, "-m", "plainfall", "onboard", ".", "--until", "dependencies", "--quiet")

    def by_hand(self) -> None:
        base = Path(sys.base_prefix) / "bin" / f"python{sys.version_info[0]}.{sys.version_info[1]}"
        self.call(base, "-m", "venv", ".venv")
        self.call(".venv/bin/python", "-m", "pip", "install", "--quiet", "-r", "requirements.txt")


def timed(rounds: int, before: Measure, action: Measure) -> float:
    """The median of the action's times, in seconds; ``before`` puts things in place, untimed."""
    times = []
    for _ in range(rounds):
        before()
        start = time.perf_counter()
        action()
        times.append(time.perf_counter() - start)
    return statistics.median(times)


def measure(bench: Bench, rounds: int) -> dict[str, float]:
    """All medians, in seconds."""
    fresh = ("clone/.venv", "clone/.plainfall")
    bench.ours()  # the interpreters of this machine are asked once, ever; kept apart below
    interpreters = (bench.work / "our-cache/interpreters/python.json").read_bytes()

    def empty_cache() -> None:
        bench.without(*fresh, "our-cache")
        place = bench.work / "our-cache/interpreters"
        place.mkdir(parents=True)
        (place / "python.json").write_bytes(interpreters)

    found = {"ours, empty cache": timed(rounds, empty_cache, bench.ours)}
    found["ours, warm cache"] = timed(rounds, lambda: bench.without(*fresh), bench.ours)
    found["ours, nothing to do"] = timed(rounds, lambda: None, bench.ours)
    copy = bench.work / "copy"
    found["cp -al"] = timed(
        rounds, lambda: bench.without("copy"), lambda: bench.call("cp", "-al", bench.clone / ".venv", copy)
    )
    found["by hand, empty cache"] = timed(
        rounds, lambda: bench.without(*fresh, "hand-cache"), bench.by_hand
    )
    found["by hand, warm cache"] = timed(rounds, lambda: bench.without(*fresh), bench.by_hand)
    found["plainfall --help"] = timed(
        rounds, lambda: None, lambda: bench.call(sys.executable, "-m", "plainfall", "--help")
    )
    found["python -c pass"] = timed(rounds, lambda: None, lambda: bench.call(sys.executable, "-c", "pass"))
    return found


def report(found: dict[str, float]) -> list[str]:
    """The table's lines."""
    lines = [f"{name:<24} {seconds:8.3f} s" for name, seconds in found.items()]
    start = found["python -c pass"]
    ratios = {
        "by hand / ours, empty cache": found["by hand, empty cache"] / found["ours, empty cache"],
        "by hand / ours, warm cache": found["by hand, warm cache"] / found["ours, warm cache"],
        "ours warm / cp -al": found["ours, warm cache"] / found["cp -al"],
        "ours, nothing to do / python -c pass": found["ours, nothing to do"] / start,
        "plainfall --help / python -c pass": found["plainfall --help"] / start,
    }
    return lines + [""] + [f"{name:<40} {ratio:6.1f}" for name, ratio in ratios.items()]


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0] if __doc__ else "")
    parser.add_argument("--wheels", type=Path, help="a folder of wheels; without it, synthetic ones")
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--json", type=Path, help="write the medians here")
    options = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="plainfall-bench-") as name:
        work = Path(name)
        folder = options.wheels or work / "wheels"
        if options.wheels is None:
            make_wheels(folder)
        with serving(archives_in(folder)) as registry:
            found = measure(Bench(work, registry.url, requirements_for(folder)), options.rounds)
    print("\n".join(report(found)))
    if options.json:
        options.json.write_text(json.dumps(found, indent=2) + "\n")


if __name__ == "__main__":
    main()
