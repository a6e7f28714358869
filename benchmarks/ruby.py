"""Installing what the lock of a Ruby project says: ours, the ecosystem's own client, and ``cp -al``.

``python benchmarks/ruby.py --project FOLDER [--rounds 5]``: the project holds Gemfile and Gemfile.lock, whose
registry answers (on loopback). The client keeps its archives in its own cache for the warm rounds. Medians in
seconds, smallest and largest, and ratios."""

from __future__ import annotations

import argparse
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

__all__ = ["main"]


def _copy(project: Path, place: Path) -> Path:
    place.mkdir(parents=True)
    for name in ("Gemfile", "Gemfile.lock"):
        shutil.copy2(project / name, place / name)
    return place


def _timed(words: list[str], folder: Path, variables: dict[str, str]) -> float:
    start = time.perf_counter()
    done = subprocess.run(words, cwd=folder, env=variables, capture_output=True, text=True, check=False)
    seconds = time.perf_counter() - start
    if done.returncode != 0:
        raise SystemExit(f"{' '.join(words)} failed: {done.stdout[-2000:]}{done.stderr[-2000:]}")
    return seconds


def main() -> None:
    """Runs the rounds and prints what came."""
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--project", type=Path, required=True)
    parser.add_argument("--rounds", type=int, default=5)
    options = parser.parse_args()
    times: dict[str, list[float]] = {}
    ours = [sys.executable, "-m", "plainfall", "onboard", "--until", "dependencies", "--quiet", "."]
    client = ["bundle", "install", "--quiet"]
    with tempfile.TemporaryDirectory(dir=Path.cwd()) as made:
        for number in range(options.rounds):
            base = Path(made, str(number))
            home = base / "home"
            home.mkdir(parents=True)
            own = {"HOME": str(home), "PATH": os.environ["PATH"], "LANG": "C.UTF-8"}
            by_hand = {**own, "BUNDLE_PATH": "vendor/bundle", "BUNDLE_GLOBAL_GEM_CACHE": "true"}
            for kind in ("empty cache", "warm cache"):
                place = _copy(options.project, base / f"ours {kind}")
                times.setdefault(f"ours, {kind}", []).append(_timed(ours, place, own))
            times.setdefault("ours, nothing to do", []).append(_timed(ours, place, own))
            for kind in ("empty cache", "warm cache"):
                theirs = _copy(options.project, base / f"theirs {kind}")
                times.setdefault(f"by hand, {kind}", []).append(_timed(client, theirs, by_hand))
            copy = ["cp", "-al", str(theirs / "vendor"), str(base / "linked")]
            times.setdefault("cp -al", []).append(_timed(copy, base, own))
    for name, seconds in times.items():
        print(f"{name:26s} {statistics.median(seconds):.3f} s  ({min(seconds):.3f} to {max(seconds):.3f})")
    for kind in ("empty cache", "warm cache"):
        ratio = statistics.median(times[f"by hand, {kind}"]) / statistics.median(times[f"ours, {kind}"])
        print(f"by hand / ours, {kind:18s} {ratio:.1f}")


if __name__ == "__main__":
    main()
