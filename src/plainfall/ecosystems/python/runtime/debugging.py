"""Python under a debug adapter: the adapter's package is fetched as any other, outside the part's environment, and
listens in the process that runs the code (and not in one that only watches files)."""

from __future__ import annotations

import os
from collections.abc import Mapping

from plainfall.ecosystems.shape import Debugging, DebugWish
from plainfall.evidence import Evidence
from plainfall.packages.cache import PackageCache
from plainfall.packages.cache_key import CacheKey

__all__ = ["python_debugging"]

_ADAPTER = "debugpy"
# Run by every Python that the server's command starts, before anything else (site, sitecustomize).
_HOOK = '''\
"""Made by Plainfall for `serve --debug`: listens for an editor, in the process that runs the code."""

import os
import sys


def _runs_the_code():
    words = getattr(sys, "orig_argv", sys.argv)
    line = " ".join(words)
    if "debugpy" in line or "-c" in words[:2] and "multiprocessing" not in line:
        return False
    if "runserver" in words and "--noreload" not in words:
        return os.environ.get("RUN_MAIN") == "true"
    flask = any(word.endswith("flask") for word in words[:3])
    debug = "--debug" in words or os.environ.get("FLASK_DEBUG", "").lower() in ("1", "true")
    if flask and debug and "--no-reload" not in words:
        return os.environ.get("WERKZEUG_RUN_MAIN") == "true"
    if "--reload" in words and any("uvicorn" in word for word in words[:3]):
        return "multiprocessing" in line
    return True


if _runs_the_code():
    try:
        import debugpy

        debugpy.configure(subProcess=False)
        debugpy.listen(("127.0.0.1", int(os.environ["PLAINFALL_DEBUG_PORT"])))
    except (OSError, RuntimeError) as error:
        print(f"no debugger here: {error}", file=sys.stderr)
'''


def python_debugging(wish: DebugWish) -> Debugging:
    """The variables that put a part's Python under the debug adapter on a loopback port, and how an editor
    attaches. Raises what getting a package raises."""
    places = _adapter(wish)
    hook = wish.state / "debug"
    wish.access.confined.write(hook / "sitecustomize.py", _HOOK)
    attach: Mapping[str, object] = {
        "name": f"attach to {wish.folder.name}",
        "type": _ADAPTER,
        "request": "attach",
        "connect": {"host": "127.0.0.1", "port": wish.port},
        "pathMappings": [{"localRoot": str(wish.folder), "remoteRoot": str(wish.folder)}],
        "justMyCode": True,
    }
    folders = os.pathsep.join((str(hook), *places))
    variables = {"PYTHONPATH": folders}
    variables |= {
        "PLAINFALL_DEBUG_PORT": str(wish.port),
        "PYDEVD_DISABLE_FILE_VALIDATION": "1",
    }
    return Debugging(variables, {"PYTHONPATH": os.pathsep}, attach)


def _adapter(wish: DebugWish) -> list[str]:
    """The folders of the adapter's package, from the cache or the configured index."""
    from plainfall.ecosystems.python.clients.configuration import read_sources
    from plainfall.ecosystems.python.install.supply import Supply
    from plainfall.ecosystems.python.lists.requirements import IndexOptions

    choice, surroundings = wish.choice, wish.surroundings
    cache = PackageCache(surroundings.cache)
    key = CacheKey.of_machine("debuggers", _ADAPTER, choice.taken.identity)
    remembered = cache.recall(key)
    trees = (
        [cache.tree(CacheKey.recorded("python", one)) for one in remembered]
        if isinstance(remembered, list)
        else []
    )
    if trees and all(tree is not None and not tree.damaged() for tree in trees):
        return [str(tree.folder) for tree in trees if tree is not None]
    sources = read_sources(surroundings, choice.taken, IndexOptions())
    supply = Supply(wish.clone, sources, choice.taken, surroundings, wish.progress)
    try:
        result = supply.trees_for([_ADAPTER], "the debug adapter", Evidence("--debug"))
    finally:
        supply.close()
    cache.remember(key, [tree.sha256 for tree in result.values()])
    return [str(tree.folder) for tree in result.values()]
