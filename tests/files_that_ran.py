"""Reads pytest's results: ``python tests/files_that_ran.py RESULTS.xml``.

Prints how many tests ran and why others were skipped. Ends with 1 where each test of a file was skipped, and the file
is not among those whose subject is a program itself: nobody would notice if it tested nothing.
"""

from __future__ import annotations

import sys
import xml.etree.ElementTree as ElementTree
from collections import Counter

# Files that test nothing but what one program does, and where they run: on a machine that has it, by .ci/run.
NEED_ALL_THE_WAY = {
    "test_real_": "packages of real frameworks, in the tier marked real",
    "test_hostile_generated": "its own step of .ci/run",
    "test_browser": "a browser",
    "test_brokers": "message brokers",
    "test_node_at_once": "Node",
    "test_php_package_sources": "PHP",
    "test_php_pages": "PHP",
    "test_setting_up": "PHP",
    "test_server_guard": "PostgreSQL or MariaDB",
    "test_history": "git",
    "test_debugging": "the debuggers of Python, Node and Ruby",
    "test_ruby_packages": "Ruby",
}


def main(path: str) -> int:
    ran: Counter[str] = Counter()
    skipped: Counter[str] = Counter()
    reasons: Counter[str] = Counter()
    for case in ElementTree.parse(path).iter("testcase"):
        file = case.get("classname", "")
        why = case.find("skipped")
        if why is None:
            ran[file] += 1
        else:
            skipped[file] += 1
            reasons[why.get("message", "")] += 1
    whole = sorted(file for file in skipped if not ran[file])
    hidden = [one for one in whole if not one.rpartition(".")[2].startswith(tuple(NEED_ALL_THE_WAY))]
    for reason, count in reasons.most_common():
        print(f"  {count:4} skipped: {reason}")
    for file in hidden:
        print(f"  nothing ran of {file}: each of its {skipped[file]} tests was skipped")
    print(
        f"{ran.total()} tests ran of {len(ran)} files; {skipped.total()} were skipped, of which {len(hidden)} whole files"
    )
    return 1 if hidden or not ran else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1]))
