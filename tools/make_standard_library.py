"""Makes ``standard_library.toml``: which release lines of Python have which modules and names.

Each interpreter that is named is asked what its standard library holds (nothing of site-packages is looked at).
Written are only modules and names that some of them have and others have not::

    python tools/make_standard_library.py PYTHON PYTHON … > FILE

FILE is the one in ``src/plainfall/ecosystems/python/runtime``.
"""

from __future__ import annotations

import json
import subprocess
import sys
from collections import defaultdict
from collections.abc import Iterable

# Asked by a program, since the lists of the documentation have no names of older lines. Modules that do
# something when they are imported are left out.
_PROGRAM = r"""
import importlib, json, os, pkgutil, sys, sysconfig, warnings
warnings.simplefilter("ignore")
LEFT_OUT = {"antigravity", "this", "idlelib", "turtledemo", "lib2to3", "test", "site"}
PACKAGES = (
    "asyncio collections concurrent concurrent.futures ctypes email email.mime html http importlib json logging "
    "multiprocessing os unittest urllib wsgiref xml xml.etree xmlrpc distutils encodings zoneinfo tomllib"
)
folder = sysconfig.get_paths()["stdlib"]
names = set(sys.builtin_module_names)
for one in pkgutil.iter_modules([folder, os.path.join(folder, "lib-dynload")]):
    names.add(one.name)
for name in PACKAGES.split():
    try:
        package = importlib.import_module(name)
    except ImportError:
        continue
    for one in pkgutil.iter_modules(getattr(package, "__path__", [])):
        names.add(name + "." + one.name)
found = {}
for name in sorted(names):
    first = name.partition(".")[0]
    if first in LEFT_OUT or name.startswith("_") or "._" in name or "__main__" in name:
        continue
    found[name] = []
    try:
        module = importlib.import_module(name)
    except BaseException:
        continue  # it wants what this machine has not: a display, a library
    found[name] = sorted(one for one in dir(module) if not one.startswith("_"))
# Names that others have and that are given on request alone (PEP 562) are in no list.
for name in json.loads(sys.stdin.read()):
    module, _, inner = name.rpartition(".")
    if module in found and inner not in found[module]:
        if hasattr(sys.modules.get(module), inner):
            found[module].append(inner)
json.dump({"line": "%d.%d" % sys.version_info[:2], "found": found}, sys.stdout)
"""


def asked(python: str, names: Iterable[str] = ()) -> tuple[str, dict[str, list[str]]]:
    """An interpreter's release line, and the public names of each module of its standard library, with those of
    ``names`` that it gives on request."""
    words = [python, "-I", "-S", "-c", _PROGRAM]
    done = subprocess.run(words, input=json.dumps(list(names)), capture_output=True, text=True, check=True)
    document = json.loads(done.stdout[done.stdout.index('{"line"') :])
    return document["line"], document["found"]


def order(line: str) -> tuple[int, ...]:
    """Release lines in their order."""
    return tuple(int(piece) for piece in line.split("."))


def main() -> None:
    """Writes the table to standard output."""
    first_answers = dict(asked(python) for python in sys.argv[1:])
    every = {
        f"{module}.{name}" for found in first_answers.values() for module in found for name in found[module]
    }
    answers = dict(asked(python, sorted(every)) for python in sys.argv[1:])
    lines = sorted(answers, key=order)
    having: dict[str, list[str]] = defaultdict(list)
    modules = {name for found in answers.values() for name in found}
    for line in lines:
        for module, names in answers[line].items():
            having[module].append(line)
            for name in names:
                # A module's own imports are no names of it, and a submodule stands by itself.
                if f"{module}.{name}" not in modules and name not in modules:
                    having[f"{module}.{name}"].append(line)
    rows = []
    for name, have in sorted(having.items()):
        module = name.rpartition(".")[0] if name not in modules else ""
        # A module that could not be imported (a library of the machine's is missing) tells nothing of its names.
        asked_of = [line for line in having[module] if answers[line][module]] if module else lines
        if have == asked_of:
            continue
        first, last = have[0], have[-1]
        if have != asked_of[asked_of.index(first) : asked_of.index(last) + 1]:
            continue  # it came and went: a detail of a platform
        rows.append((name, "" if first == asked_of[0] else first, "" if last == asked_of[-1] else last))
    print("# Made by tools/make_standard_library.py of the interpreters' own answers; do not edit by hand.")
    print('# Module or name = [the first release line that has it, the last one], "" for before and after')
    print(f"# those that were asked: {', '.join(lines)}.")
    for name, first, last in rows:
        print(f'"{name}" = ["{first}", "{last}"]')


if __name__ == "__main__":
    main()
