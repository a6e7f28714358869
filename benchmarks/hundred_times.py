"""Every badly behaving server of the tests, again and again: verdicts counted, and nothing may be left.

``python benchmarks/hundred_times.py [ROUNDS [AT_ONCE]]``: prints a row a server and ends with status 1 if any
verdict was wrong or anything was left.
"""

from __future__ import annotations

import sys
import tempfile
import time
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from bad_servers import BAD_SERVERS
from test_bad_servers import certificate, verdict_of


def once(number: int, worker: int) -> str:
    """ "" for the right verdict, else what was wrong."""
    bad = BAD_SERVERS[number]
    with tempfile.TemporaryDirectory() as made:
        folder = Path(made)
        if "certificate.pem" in bad.program:
            certificate(folder)
        try:
            state, said = verdict_of(
                bad, folder, 10_000 + worker % 20_000
            )  # below what outgoing connections take
        except AssertionError as error:
            return f"left something: {str(error)[:80]}"
        right = state == bad.state and (
            bad.says in said if bad.says or state != "answers" else "title Rain" in said
        )
        return "" if right else f"{state}: {said[:80]}"


def main(rounds: int, at_once: int) -> int:
    """Runs them all; returns the exit status."""
    begin = time.monotonic()
    jobs = [(number, turn) for turn in range(rounds) for number in range(len(BAD_SERVERS))]
    wrong: dict[int, Counter[str]] = {number: Counter() for number in range(len(BAD_SERVERS))}
    with ProcessPoolExecutor(at_once) as pool:
        places = (20 * place for place in range(len(jobs)))
        for (number, _), said in zip(jobs, pool.map(once, (n for n, _ in jobs), places), strict=True):
            wrong[number][said] += 1
    for number, counts in wrong.items():
        bad = {said: count for said, count in counts.items() if said}
        print(f"{counts['']:>4} of {rounds} right  {BAD_SERVERS[number].does}{f'  {bad}' if bad else ''}")
    failed = sum(count for counts in wrong.values() for said, count in counts.items() if said)
    print(f"{len(jobs)} starts, {failed} wrong, {time.monotonic() - begin:.0f} s, {at_once} at a time")
    return 1 if failed else 0


if __name__ == "__main__":
    words = [int(word) for word in sys.argv[1:]]
    sys.exit(main(words[0] if words else 100, words[1] if len(words) > 1 else 4))
