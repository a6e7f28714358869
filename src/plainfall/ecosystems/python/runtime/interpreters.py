"""Python interpreters: how they are recognised, and the facts each is asked for once."""

from __future__ import annotations

import ast
import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from plainfall.patterns import regex
from plainfall.processes import run
from plainfall.runtimes.choice import Grammar
from plainfall.runtimes.interpreters import (
    BrokenInterpreter,
    Interpreter,
    find_interpreters,
)
from plainfall.surroundings import Surroundings

__all__ = ["GRAMMAR", "ask_python", "interpreter_at", "python_interpreters", "unfit"]

_NAME = regex(r"^python(\d+(\.\d+)?t?)?$|^pypy(\d+(\.\d+)?)?$")

# Written for every Python since 2.7; the marker names are those of PEP 508's environment markers. An import costs
# milliseconds for each interpreter of the machine: `site` (-S) runs the lines of .pth files, and is asked only
# in an environment; json and platform bring half of the standard library with them.
_QUESTIONS = r"""
import os, sys
def near(*places):
    return any(os.path.exists(os.path.join(place, 'pyvenv.cfg')) for place in places)
here = os.path.dirname(os.path.abspath(sys.executable))
if near(here, os.path.dirname(here)) or sys.version_info < (3, 3):
    import site
    getattr(site, 'main', int)()
import sysconfig
try:
    from importlib.util import find_spec
except ImportError:
    find_spec = __import__
def has(name):
    try:
        return find_spec(name) is not None
    except Exception:
        return False
i = sys.version_info
def whole(value, words):
    n = '%d.%d.%d' % tuple(value[:3])
    return n if value[3] == 'final' else n + words[value[3]] + str(value[4])
full = whole(i, {'alpha': 'a', 'beta': 'b', 'candidate': 'rc'})
impl = getattr(sys, 'implementation', None)
of_impl = whole(impl.version, {'alpha': 'a', 'beta': 'b', 'candidate': 'c'}) if impl else full
name = impl.name if impl else 'pypy' if hasattr(sys, 'pypy_version_info') else 'cpython'
base = getattr(sys, 'base_prefix', getattr(sys, 'real_prefix', sys.prefix))
real = sys.executable
if base != sys.prefix:
    for maybe in (getattr(sys, '_base_executable', None), os.path.join(base, 'bin', 'python%d.%d' % i[:2])):
        if maybe and os.path.exists(maybe) and os.path.realpath(maybe) != os.path.realpath(sys.executable):
            real = maybe
            break
try:
    libc = os.confstr('CS_GNU_LIBC_VERSION') or ''
except Exception:
    libc = ''
musl = ''
if not libc and sys.platform.startswith('linux'):
    for loader in ('/lib', '/usr/lib'):
        try:
            for entry in os.listdir(loader):
                if entry.startswith('ld-musl-'):
                    musl = os.path.join(loader, entry)
        except OSError:
            continue
include = sysconfig.get_paths().get('include', '')
mac_version = ''
if sys.platform == 'darwin':
    import platform
    mac_version = platform.mac_ver()[0]
system, _, release, version, machine = tuple(os.uname())
print(repr({
    'version': full, 'implementation': name, 'executable': os.path.realpath(real), 'prefix': base,
    'bits': 64 if sys.maxsize > 2**32 else 32, 'platform': sysconfig.get_platform(),
    'soabi': sysconfig.get_config_var('SOABI') or '', 'abiflags': getattr(sys, 'abiflags', ''),
    'threads_free': bool(sysconfig.get_config_var('Py_GIL_DISABLED')),
    'debug': bool(sysconfig.get_config_var('Py_DEBUG')),
    'libc': libc, 'musl': musl,
    'mac_version': mac_version,
    'sqlite3': has('_sqlite3'), 'ssl': has('_ssl'), 'tkinter': has('_tkinter'), 'curses': has('_curses'),
    'bz2': has('_bz2'), 'lzma': has('_lzma'), 'readline': has('readline'), 'venv': i >= (3, 3),
    'headers': os.path.exists(os.path.join(include, 'Python.h')),
    'markers': {
        'implementation_name': name,
        'implementation_version': of_impl,
        'os_name': os.name, 'platform_machine': machine,
        'platform_python_implementation': {'cpython': 'CPython', 'pypy': 'PyPy'}.get(name, name),
        'platform_release': release, 'platform_system': system,
        'platform_version': version, 'python_full_version': full,
        'python_version': '%d.%d' % i[:2], 'sys_platform': sys.platform,
    },
}))
"""


def ask_python(file: Path) -> Mapping[str, Any]:
    """Runs one interpreter and returns its facts. Raises ValueError with the reason if it does not work,
    or subprocess.TimeoutExpired after 10 seconds."""
    done = run([str(file), "-E", "-s", "-S", "-c", _QUESTIONS], {"PATH": "/usr/bin:/bin"}, seconds=10)
    if done.status != 0:
        lines = done.errors.strip().splitlines()
        raise ValueError(lines[-1] if lines else f"it ends with status {done.status}")
    try:
        facts = ast.literal_eval(done.output.strip())
    except (ValueError, SyntaxError, MemoryError, RecursionError):
        facts = None
    if not isinstance(facts, dict):
        raise ValueError("it does not answer like a Python interpreter")
    return facts


def python_interpreters(surroundings: Surroundings) -> list[Interpreter | BrokenInterpreter]:
    """Every Python on this machine, the one that the shell would take first."""
    return find_interpreters(surroundings, lambda name: _NAME.match(name) is not None, ask_python, "python")


def interpreter_at(path: Path) -> Interpreter:
    """The interpreter that a person named. Raises what ``ask_python`` raises."""
    facts = ask_python(path)
    return Interpreter(path, Path(facts["executable"]), str(facts["version"]), facts)


def unfit(interpreter: Interpreter) -> str | None:
    """Why this interpreter cannot serve at all, or None."""
    facts = interpreter.facts
    if not facts["venv"]:
        return "Python 2 is past its end of life and has no virtual environments of its own"
    if facts["threads_free"]:
        return "a free-threaded build, for which few packages are made"
    if facts["debug"]:
        return "a debug build"
    if facts["implementation"] != "cpython":
        return f"{facts['implementation']}, not asked for"
    return None


def _admits(specifier: str, version: str) -> bool:
    from packaging.specifiers import SpecifierSet

    # A pre-release of 3.13 serves where >=3.13 is asked for, though PEP 440 orders it before 3.13.
    release = re.match(r"[\d.]+", version)
    wanted = SpecifierSet(specifier)
    return any(
        wanted.contains(candidate, prereleases=True)
        for candidate in {version, release.group().rstrip(".") if release else version}
    )


def _order(version: str) -> tuple[int, ...]:
    numbers = re.match(r"(\d+)\.(\d+)\.(\d+)", version)
    return tuple(int(number) for number in numbers.groups()) if numbers else ()


def _relaxed(specifier: str) -> str | None:
    exact = re.fullmatch(r"===?(\d+\.\d+)\.\d+\w*", specifier)
    return f"=={exact.group(1)}.*" if exact else None


def _probes(specifier: str) -> list[str]:
    line = specifier.removeprefix("==").removesuffix(".*")
    numbers = ".".join(line.split(".")[:2])
    exact = [line] if line.count(".") > 1 else []
    return [*exact, f"{numbers}.0", f"{numbers}.99"]


GRAMMAR = Grammar(
    admits=_admits,
    relaxed=_relaxed,
    order=_order,
    is_final=lambda version: re.fullmatch(r"[\d.]+", version) is not None,
    probes=_probes,
)
