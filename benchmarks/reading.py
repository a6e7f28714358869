"""How long it takes to read what 5,000 source files say of configuration: anew, again, and by grep.

``python benchmarks/reading.py [--files N] [--rounds N]``: made-up sources in four languages; one in twenty
reads 24 settings in several ways, three in twenty read two, the rest none.
"""

from __future__ import annotations

import argparse
import random
import shutil
import statistics
import subprocess
import tempfile
import time
from pathlib import Path

from plainfall.ecosystems import source_readers
from plainfall.sources.files import read_sources

__all__ = ["main"]

_PLAIN = {
    ".py": 'def reading_{i}(values):\n    """Millimetres."""\n    return sum(v for v in values if v)\n\n',
    ".ts": "export function reading{i}(values: number[]): number {{\n  return values.length;\n}}\n",
    ".php": "function reading{i}(array $values): float {{\n    return array_sum($values) + {i};\n}}\n",
    ".rb": "def reading{i}(values)\n  values.sum + {i}\nend\n",
}
_LIGHT = {
    ".py": 'import os\nUNITS = os.getenv("UNITS", "mm")\nTOKEN = os.environ["FEED_TOKEN"]\n',
    ".ts": 'const units = process.env.UNITS ?? "mm";\nconst token = process.env.FEED_TOKEN!;\n',
    ".php": "$units = getenv('UNITS') ?: 'mm';\n$token = $_ENV['FEED_TOKEN'] ?? throw new Exception('x');\n",
    ".rb": 'UNITS = ENV["UNITS"] || "mm"\nTOKEN = ENV.fetch("FEED_TOKEN")\n',
}
_DENSE = {
    ".py": 'value_{i} = os.environ.get("KEY_{i}")\nif not value_{i}:\n    raise SystemExit("KEY_{i}")\n'
    'wait_{i} = int(os.getenv("WAIT_{i}", "3"))\n',
    ".ts": 'const value{i} = process.env.KEY_{i};\nif (!value{i}) throw new Error("KEY_{i}");\n'
    'const wait{i} = Number(process.env["WAIT_{i}"] || 3);\n',
    ".php": "$value{i} = getenv('KEY_{i}');\nif (!$value{i}) {{ throw new Exception('x'); }}\n"
    "$wait{i} = (int) ($_ENV['WAIT_{i}'] ?? 3);\n",
    ".rb": 'raise "KEY_{i}" unless ENV["KEY_{i}"]\nwait_{i} = ENV.fetch("WAIT_{i}", "3").to_i\n',
}


def make_sources(folder: Path, count: int) -> list[str]:
    """Writes the sources; returns their paths relative to the folder."""
    chosen = random.Random(7)
    paths = []
    for number in range(count):
        ending = chosen.choice(list(_PLAIN))
        rows = ["<?php\n"] if ending == ".php" else []
        if number % 20 == 0:
            rows += ["import os\n"] if ending == ".py" else []
            rows += [_DENSE[ending].format(i=index) for index in range(12)]
        elif number % 20 < 4:
            rows.append(_LIGHT[ending])
        rows += [_PLAIN[ending].format(i=index) for index in range(chosen.randrange(10, 80))]
        path = f"part{number % 50}/file{number}{ending}"
        (folder / path).parent.mkdir(exist_ok=True)
        (folder / path).write_text("".join(rows))
        paths.append(path)
    return paths


def main() -> None:
    """Runs the rounds and prints medians in seconds."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--files", type=int, default=5000)
    parser.add_argument("--rounds", type=int, default=5)
    options = parser.parse_args()
    times: dict[str, list[float]] = {"read anew": [], "read again": [], "grep": []}
    with tempfile.TemporaryDirectory() as place:
        root = Path(place)
        paths = make_sources(root, options.files)
        for round_number in range(options.rounds):
            cache = root.with_suffix(f".{round_number}")
            for name in ("read anew", "read again"):
                start = time.perf_counter()
                found = read_sources(root, paths, cache, source_readers())
                times[name].append(time.perf_counter() - start)
            shutil.rmtree(cache)
            start = time.perf_counter()
            words = ["grep", "-rnE", r"environ|getenv|process\.env|_ENV|\bENV\b", place]
            subprocess.run(words, stdout=subprocess.DEVNULL, check=False)
            times["grep"].append(time.perf_counter() - start)
    uses = sum(len(said.uses) for said in found.values())
    print(f"{len(paths)} files, {len(found)} of them read settings, {uses} places")
    for name, seconds in times.items():
        print(f"{name:<12} {statistics.median(seconds):6.3f} s")


if __name__ == "__main__":
    main()
