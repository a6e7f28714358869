"""Regular expressions that somebody else wrote: matched by a process of their own, which ends if they take too
long.

The time of a pattern may grow beyond all measure with the text, and compiling it may fill the memory; within a
process neither can be interrupted.
"""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Sequence

from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.processes import run

__all__ = ["matching"]

_SECONDS = 4.0
_MEMORY = 256 << 20  # bytes
_PROGRAM = f"""
import json, re, resource, sys
resource.setrlimit(resource.RLIMIT_AS, ({_MEMORY}, {_MEMORY}))
given = json.load(sys.stdin)
try:
    patterns = [re.compile(one) for one in given["patterns"]]
    print(json.dumps([any(one.search(line) for one in patterns) for line in given["lines"]]))
except (re.error, OverflowError, RecursionError, MemoryError, TypeError) as error:
    print(json.dumps(str(error) or type(error).__name__))
"""


def matching(patterns: Sequence[str], lines: Sequence[str], place: Evidence) -> list[bool]:
    """Of each line whether any of the patterns is found in it. Raises BadInput, with the place where they
    stand, for one that is none, or that takes too much time or memory."""
    if not patterns or not lines:
        return [False] * len(lines)
    data = json.dumps({"patterns": list(patterns), "lines": list(lines)}).encode()
    try:
        done = run([sys.executable, "-I", "-S", "-c", _PROGRAM], {}, seconds=_SECONDS, data=data)
        answer = json.loads(done.output) if done.status == 0 else "they take too much memory"
    except subprocess.TimeoutExpired:
        answer = f"they take more than {_SECONDS:.0f} s on a line of output"
    if isinstance(answer, list):
        return [bool(one) for one in answer]
    raise BadInput(
        f"the patterns cannot be used: {answer}",
        place=place,
        remedy="Write plain ones, without a repetition within a repetition.",
    )
