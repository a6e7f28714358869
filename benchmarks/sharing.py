"""What it costs to lay a package's files so that no other clone shares them:
``python benchmarks/sharing.py [--files 4000] [--runs 5]``.

One tree of files, of the sizes that packages have, is laid as links (what Plainfall does), as clones of the file
system's own (FICLONE of ioctl_ficlone(2)), and as copies; and it is checked as Plainfall checks a kept tree, by the
times of last change, and by digests of every file. Prints medians and ratios to links."""

from __future__ import annotations

import argparse
import fcntl
import os
import random
import shutil
import statistics
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from plainfall.packages.proof import digest_of_content

_FICLONE = 0x40049409


def _clone(source: str, target: str) -> None:
    with open(source, "rb") as taken, open(target, "wb") as made:
        fcntl.ioctl(made, _FICLONE, taken.fileno())


def _tree(folder: Path, count: int) -> list[str]:
    chance = random.Random(1)
    for number in range(count):
        file = folder / f"{number % 97}" / f"{number}.py"
        file.parent.mkdir(exist_ok=True)
        file.write_bytes(chance.randbytes(int(chance.lognormvariate(8, 1.3))))  # median 3 kB, mean 7 kB
    return [str(path.relative_to(folder)) for path in folder.rglob("*.py")]


def _laid(folder: Path, names: list[str], lay: Callable[[str, str], object]) -> float:
    target = Path(tempfile.mkdtemp(dir=folder.parent))
    for number in range(97):
        (target / f"{number}").mkdir()
    started = time.perf_counter()
    for name in names:
        lay(f"{folder}/{name}", f"{target}/{name}")
    seconds = time.perf_counter() - started
    shutil.rmtree(target)
    return seconds


def _checked(folder: Path, names: list[str], look: Callable[[str], object]) -> float:
    started = time.perf_counter()
    for name in names:
        look(f"{folder}/{name}")
    return time.perf_counter() - started


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--files", type=int, default=4_000)
    parser.add_argument("--runs", type=int, default=5)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place) / "tree"
        folder.mkdir()
        names = _tree(folder, options.files)
        size = sum(os.stat(f"{folder}/{name}").st_size for name in names)
        print(f"{len(names):,} files, {size / 1e6:.0f} MB, medians of {options.runs}")
        ways: dict[str, Callable[[], float]] = {
            "laid as links": lambda: _laid(folder, names, os.link),
            "laid as clones of the file system": lambda: _laid(folder, names, _clone),
            "laid as copies": lambda: _laid(folder, names, shutil.copyfile),
            "checked by times of last change": lambda: _checked(folder, names, os.lstat),
            "checked by digests": lambda: _checked(
                folder, names, lambda path: digest_of_content(Path(path).read_bytes())
            ),
        }
        base = 0.0
        for name, way in ways.items():
            try:
                median = statistics.median(way() for _ in range(options.runs))
            except OSError as error:
                print(f"  {name:36} not here: {error.strerror}")
                continue
            base = base or median
            print(f"  {name:36} {median * 1000:8.1f} ms   {median / base:6.2f}")


if __name__ == "__main__":
    main()
