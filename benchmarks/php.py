"""Installing what the lock of a PHP project says: ours, the ecosystem's own client, and ``cp -al``.

``python benchmarks/php.py --project FOLDER [--rounds 5]``: the project holds composer.json and composer.lock, whose
archives' addresses answer (a loopback registry). Scripts and plugins do not run on either side. Medians in seconds,
smallest and largest, and ratios; at the end how long the classes of all its packages take to be looked for, by one
process and by the pool.
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from plainfall.ecosystems.php.install.classmap import scan
from plainfall.workers import end_workers, worker_pool

__all__ = ["main"]


def _copy(project: Path, place: Path) -> Path:
    place.mkdir(parents=True)
    document = json.loads((project / "composer.json").read_text("utf-8"))
    document.pop("scripts", None)
    (place / "composer.json").write_text(json.dumps(document), "utf-8")
    shutil.copy2(project / "composer.lock", place / "composer.lock")
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
    client = ["composer", "install", "--no-scripts", "--no-plugins", "--no-interaction", "--quiet"]
    with tempfile.TemporaryDirectory(dir=Path.cwd()) as made:
        for number in range(options.rounds):
            base = Path(made, str(number))
            home = base / "home"
            home.mkdir(parents=True)
            variables = {
                "PATH": os.environ["PATH"], "HOME": str(home), "COMPOSER_ALLOW_SUPERUSER": "1",
                "COMPOSER_HOME": str(base / "client"), "PLAINFALL_CACHE": str(base / "cache"),
            }  # fmt: skip
            for name, words in (("ours", ours), ("by hand", client)):
                for state in ("empty cache", "warm cache"):
                    folder = _copy(options.project, base / f"{name} {state}".replace(" ", "-"))
                    times.setdefault(f"{name}, {state}", []).append(_timed(words, folder, variables))
            folder = base / "ours-warm-cache"
            times.setdefault("ours, nothing to do", []).append(_timed(ours, folder, variables))
            words = ["cp", "-al", str(folder / "vendor"), str(base / "links")]
            times.setdefault("cp -al", []).append(_timed(words, base, variables))
        _classes(folder / "vendor")
    medians = {name: statistics.median(seconds) for name, seconds in times.items()}
    for name, seconds in medians.items():
        print(f"{name:<24}{seconds:8.3f} s  ({min(times[name]):.3f} to {max(times[name]):.3f})")
    for state in ("empty cache", "warm cache"):
        ratio = medians[f"by hand, {state}"] / medians[f"ours, {state}"]
        print(f"by hand / ours, {state:<12}{ratio:8.1f}")


def _classes(vendor: Path) -> None:
    """How long the classes of all installed packages take to be looked for."""
    folders = [one for owner in vendor.iterdir() if owner.is_dir() for one in owner.iterdir() if one.is_dir()]
    begin = time.perf_counter()
    rows = [row for folder in folders for row in scan(folder, "")]
    alone = time.perf_counter() - begin
    pool = worker_pool()
    together = alone
    if pool is not None:
        begin = time.perf_counter()
        list(pool.map(scan, folders, [""] * len(folders)))
        together = time.perf_counter() - begin
    end_workers()
    count = sum(len(names) for _, names in rows)
    print(f"{count} classes in {len(rows)} files: {alone:.2f} s by one process, {together:.2f} s by the pool")


if __name__ == "__main__":
    main()
