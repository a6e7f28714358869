"""Installing what a lock of a large Node project says: ours, the runtime's own client, and ``cp -al``.

``python benchmarks/node.py --project FOLDER --archives FOLDER [--rounds N]``: the project holds package.json
and package-lock.json, the archives lie in NAME/VERSION.tgz. One loopback registry serves all; no install code
runs.
"""

from __future__ import annotations

import argparse
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from plainfall.standins.node_registry import archives_below, serving_node

__all__ = ["main"]


@contextmanager
def _registry(folder: Path) -> Iterator[str]:
    """The registry in a process of its own, so that it does not share ours."""
    words = [sys.executable, __file__, "--serve", str(folder)]
    with subprocess.Popen(words, stdout=subprocess.PIPE, stdin=subprocess.PIPE, text=True) as server:
        assert server.stdout is not None and server.stdin is not None
        try:
            yield server.stdout.readline().strip()
        finally:
            server.stdin.close()
            server.wait()


def _serve(folder: Path) -> None:
    with serving_node(archives_below(folder)) as registry:
        print(registry.url, flush=True)
        sys.stdin.read()


def _copy(project: Path, place: Path) -> Path:
    place.mkdir(parents=True)
    for name in ("package.json", "package-lock.json"):
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
    """Runs the rounds and prints medians in seconds, and ratios."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--project", type=Path)
    parser.add_argument("--archives", type=Path)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--serve", type=Path)
    options = parser.parse_args()
    if options.serve:
        _serve(options.serve)
        return
    times: dict[str, list[float]] = {}
    ours = [sys.executable, "-m", "plainfall", "onboard", "--until", "dependencies", "--quiet", "."]
    client = ["npm", "ci", "--ignore-scripts", "--no-audit", "--no-fund", "--silent"]
    with tempfile.TemporaryDirectory(dir=Path.cwd()) as made, _registry(options.archives) as address:
        for number in range(options.rounds):
            base = Path(made, str(number))
            home = base / "home"
            home.mkdir(parents=True)
            variables = {
                "PATH": os.environ["PATH"],
                "HOME": str(home),
                "npm_config_registry": address,
                "npm_config_cache": str(base / "client-cache"),
                "npm_config_replace_registry_host": "always",
                "PLAINFALL_CACHE": str(base / "cache"),
            }
            for name, words in (("ours", ours), ("by hand", client)):
                for state in ("empty cache", "warm cache"):
                    folder = _copy(options.project, base / f"{name} {state}".replace(" ", "-"))
                    times.setdefault(f"{name}, {state}", []).append(_timed(words, folder, variables))
            folder = base / "ours-warm-cache"
            times.setdefault("ours, nothing to do", []).append(_timed(ours, folder, variables))
            target = base / "links"
            words = ["cp", "-al", str(folder / "node_modules"), str(target)]
            times.setdefault("cp -al", []).append(_timed(words, base, variables))
    medians = {name: statistics.median(seconds) for name, seconds in times.items()}
    for name, seconds in medians.items():
        print(f"{name:<24}{seconds:8.3f} s  ({min(times[name]):.3f} to {max(times[name]):.3f})")
    for state in ("empty cache", "warm cache"):
        ratio = medians[f"by hand, {state}"] / medians[f"ours, {state}"]
        print(f"by hand / ours, {state:<12}{ratio:8.1f}")
    print(f"ours warm / cp -al          {medians['ours, warm cache'] / medians['cp -al']:8.1f}")


if __name__ == "__main__":
    main()
