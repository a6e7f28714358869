"""A runtime that no machine has yet: fetched as a package, where registries publish its binaries by platform.

The packages are called ``node-SYSTEM-PROCESSOR`` and hold ``bin/node``. What was chosen for the same asks is
remembered, so that a later run asks no registry. The runtime stays in the package cache, and only clones that
ask for it use it. It comes from the registry of the user's own configuration, never from one that a clone
names: it runs the code of other clones, too.
"""

from __future__ import annotations

import platform
import subprocess
from collections.abc import Sequence
from pathlib import Path
from typing import Any
from urllib.parse import quote

from plainfall.ecosystems.node.clients.configuration import Registries, read_registries
from plainfall.ecosystems.node.install.store import Store, registry_address
from plainfall.ecosystems.node.lists.documents import plain_manifest, versions_of
from plainfall.ecosystems.node.lists.locks.package import Package
from plainfall.ecosystems.node.resolve.versions import order
from plainfall.ecosystems.node.runtime.interpreters import GRAMMAR, ask_node
from plainfall.ecosystems.node.runtime.lines import known_lines
from plainfall.ecosystems.shape import Progress
from plainfall.packages.cache import PackageCache
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.client import RegistryClient
from plainfall.reading import foreign_json
from plainfall.runtimes.asks import Strength, VersionAsk
from plainfall.runtimes.choice import Choice
from plainfall.runtimes.interpreters import Interpreter
from plainfall.surroundings import Surroundings
from plainfall.workers import worker_pool

__all__ = ["fetched_runtime", "package_name"]

_PROCESSORS = {"x86_64": "x64", "amd64": "x64", "aarch64": "arm64", "arm64": "arm64", "armv7l": "armv7l"}
_SHORT = "application/vnd.npm.install-v1+json; q=1.0, application/json; q=0.8"


def package_name() -> str | None:
    """The package that holds the runtime for this machine; None for a machine that none is published for."""
    system = {"Linux": "linux", "Darwin": "darwin"}.get(platform.system())
    processor = _PROCESSORS.get(platform.machine().lower())
    musl = system == "linux" and "musl" in " ".join(platform.libc_ver())
    return f"node-{system}-{processor}" if system and processor and not musl else None


def fetched_runtime(
    asks: Sequence[VersionAsk], surroundings: Surroundings, here: Sequence[Interpreter], progress: Progress
) -> Choice | None:
    """A choice of a runtime that fits the asks and is fetched for it; None where no registry has one.

    ``here`` are the interpreters of this machine, whose client may know a registry; ``progress`` is told the
    size before anything is fetched. Raises RegistryProblem, HashMismatch, ArchiveRefused or BadInput."""
    name = package_name()
    if name is None:
        return None
    client = here[0] if here else Interpreter(Path(), Path(), "0.0.0", {})
    value = [ask for ask in asks if ask.strength >= Strength.RANGE]
    cache = PackageCache(surroundings.cache)
    key = CacheKey.of_machine("node-runtimes", name, sorted(ask.specifier for ask in value))
    remembered = cache.recall(key)
    registries = None
    worker_pool()  # before the threads that ask registries: packages are laid by it later
    if not isinstance(remembered, dict):
        registries = read_registries(surroundings, client, [])
        remembered = _offered(name, value, registries, surroundings)
        if remembered is None:
            return None
    version, size = str(remembered["version"]), int(remembered["size"])
    text = f"{size / 1e6:.0f} MB" if size else "of unknown size"
    package = Package("", name, version, integrity=str(remembered["integrity"]))
    known = registries or Registries("http://registry.example/")
    store = Store(
        surroundings.cache,
        dict(surroundings.variables),
        known.connection,
        known,
        surroundings.folder,
        surroundings.folder,
    )
    if registries is None and not store.is_here(package):
        store.registries = read_registries(surroundings, client, [])
    progress(0, 0, f"Node {version} is fetched for this clone, {text}")
    try:
        tree = store.tree(package)
    finally:
        store.close()
    file = tree.folder / "bin" / "node"
    try:
        facts = dict(ask_node(file))
    except (OSError, ValueError, subprocess.SubprocessError) as error:
        progress(0, 0, f"Node {version} was fetched and does not work on this machine: {error}")
        return None
    cache.remember(key, remembered)
    interpreter = Interpreter(file, Path(facts["executable"]), str(facts["version"]), facts)
    if registries is not None:  # it has no client that could be asked
        cache.remember(CacheKey.of_machine("registries", "node", interpreter.identity), registries.default)
    asked = ", ".join(f"{ask.text} ({ask.evidence})" for ask in value)
    remark = (
        f"no Node here fits {asked}: {version} was fetched as the package {name} ({text}), for clones only"
    )
    return Choice(interpreter, [], [remark])


def _offered(
    name: str, asks: Sequence[VersionAsk], registries: Registries, surroundings: Surroundings
) -> dict[str, object] | None:
    """The version to take, with its integrity and size in bytes: one that all asks admit, of a line with long
    support before others, the newest."""
    client = RegistryClient(registries.connection, surroundings.variables)
    try:
        page = client.page(registries.of(name) + quote(name, safe="@"), accept=_SHORT)
        document = foreign_json(page.body, page.url) if page is not None else {}
        return _newest(name, asks, document, client, registries, surroundings.cache)
    finally:
        client.close()


def _newest(
    name: str,
    asks: Sequence[VersionAsk],
    document: Any,
    client: RegistryClient,
    registries: Registries,
    cache: Path,
) -> dict[str, object] | None:
    versions = versions_of(document)
    fitting = [one for one in versions if all(GRAMMAR.admits(ask.specifier, one) for ask in asks)]
    if not fitting:
        relaxed = [GRAMMAR.relaxed(a.specifier) or a.specifier for a in asks]
        fitting = [one for one in versions if all(GRAMMAR.admits(wish, one) for wish in relaxed)]
    majors = set(known_lines(cache).majors)
    fitting.sort(key=lambda one: (GRAMMAR.order(one)[:1] and GRAMMAR.order(one)[0] in majors, order(one)))
    for version in reversed(fitting):
        dist = plain_manifest(versions[version])["dist"] if "dist" in versions[version] else {}
        if dist.get("integrity") and "-" not in version:
            # The first byte of the archive tells how large it is.
            first = client.page(registry_address(registries.of(name), name, version), span=(0, 0))
            size = (first.total or len(first.body)) if first is not None else 0
            return {"version": version, "integrity": dist["integrity"], "size": size}
    return None
