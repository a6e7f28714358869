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
    """The folders and variables of one comparison. Each timed action gets new folders: on ext4, making files
    right after others were removed is several times slower, and would be measured instead."""

    def __init__(self, work: Path, url: str, requirements: str) -> None:
        self.work = work
        self.requirements = requirements
        self.count = 0
        self.clone = work
        self.variables = {
            "HOME": str(work / "home"),
            "PATH": os.environ["PATH"],
            "PIP_CONFIG_FILE": "/dev/null",
            "PIP_INDEX_URL": url,
            "PIP_DISABLE_PIP_VERSION_CHECK": "1",
        }
        (work / "home").mkdir()
        self.new_caches()
        self.interpreters: bytes = b""

    def _new(self, what: str) -> Path:
        self.count += 1
        return self.work / f"{what}{self.count}"

    def new_clone(self) -> None:
        self.clone = self._new("clone")
        self.clone.mkdir()
        (self.clone / "requirements.txt").write_text(self.requirements)
        (self.clone / ".python-version").write_text(platform.python_version() + "\n")

    def new_caches(self) -> None:
        self.variables["PIP_CACHE_DIR"] = str(self._new("hand-cache"))
        self.variables["PLAINFALL_CACHE"] = str(self._new("our-cache"))

    def new_all(self) -> None:
        self.new_clone()
        self.new_caches()
        # The interpreters of a machine are asked once, ever: that is no part of an install.
        place = Path(self.variables["PLAINFALL_CACHE"]) / "interpreters"
        place.mkdir(parents=True)
        (place / "python.json").write_bytes(self.interpreters)

    def call(self, *words: object) -> None:
        done = subprocess.run(
            [str(word) for word in words],
            cwd=self.clone,
            env=self.variables,
            capture_output=True,
            check=False,
        )
        if done.returncode:
            raise SystemExit(f"{words}: {done.stdout.decode()}{done.stderr.decode()}")

    def ours(self) -> None:
        self.call(sys.executable, "-m", "plainfall", "onboard", ".", "--until", "dependencies", "--quiet")

    def by_hand(self) -> None:
        base = Path(sys.base_prefix) / "bin" / f"python{sys.version_info[0]}.{sys.version_info[1]}"
        self.call(base, "-m", "venv", ".venv")
        self.call(".venv/bin/python", "-m", "pip", "install", "--quiet", "-r", "requirements.txt")

    def copy(self) -> None:
        self.call("cp", "-al", self.clone / ".venv", self._new("copy"))


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

    def nothing() -> None:
        return None

    bench.new_clone()
    bench.ours()
    remembered = Path(bench.variables["PLAINFALL_CACHE"]) / "interpreters/python.json"
    bench.interpreters = remembered.read_bytes()
    found = {
        "ours, empty cache": timed(rounds, bench.new_all, bench.ours),
        "ours, warm cache": timed(rounds, bench.new_clone, bench.ours),
        "ours, nothing to do": timed(rounds, nothing, bench.ours),
        "cp -al": timed(rounds, nothing, bench.copy),
        "by hand, empty cache": timed(rounds, bench.new_all, bench.by_hand),
        "by hand, warm cache": timed(rounds, bench.new_clone, bench.by_hand),
    }
    for name, words in {
        "plainfall --help": ["-m", "plainfall", "--help"],
        "python -c pass": ["-c", "pass"],
    }.items():
        found[name] = timed(rounds * 3, nothing, lambda words=words: bench.call(sys.executable, *words))  # type: ignore[misc]
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
