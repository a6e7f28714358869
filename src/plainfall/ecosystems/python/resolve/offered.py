"""The archives that the index offers for the pins of a list that names none itself, asked before a runtime is
chosen: a pin whose wheels are for an older Python is a reason to take that one."""

from __future__ import annotations

from plainfall.clone.parts import DependencyFile
from plainfall.ecosystems.python.clients.configuration import read_sources
from plainfall.ecosystems.python.lists.requirements import IndexOptions
from plainfall.ecosystems.python.resolve.finding import Finder, version_of
from plainfall.errors import PlainfallError
from plainfall.packages.cache import PackageCache
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.client import RegistryClient
from plainfall.runtimes.interpreters import Interpreter
from plainfall.surroundings import Surroundings

__all__ = ["offered_archives"]


def offered_archives(
    listed: DependencyFile, surroundings: Surroundings, interpreter: Interpreter
) -> dict[str, tuple[str, ...]]:
    """Archive names by "name version", remembered for the same pins and sources. Empty if the index cannot be
    asked: the dependencies step says why, when it needs it."""
    cache = PackageCache(surroundings.cache)
    options = listed.options if isinstance(listed.options, IndexOptions) else IndexOptions()
    try:
        sources = read_sources(surroundings, interpreter, options)
        places = [source.address for source in (*sources.links, *sources.indexes)]
        if not places:
            return {}
        key = CacheKey.of_statement("offered", places, sorted(listed.pinned))
        remembered = cache.recall(key)
        if isinstance(remembered, dict):
            return {label: tuple(names) for label, names in remembered.items()}
        client = RegistryClient(sources.connection, surroundings.variables)
        finder = Finder(client, sources, (), interpreter.facts)
        try:
            finder.prefetch([name for name, _ in listed.pinned])
            results = {
                f"{name} {version}": tuple(
                    file.filename for file in finder.offered(name) if version_of(file) == version
                )
                for name, version in listed.pinned
            }
        finally:
            finder.close()
            client.close()
    except PlainfallError:
        return {}
    results = {label: names for label, names in results.items() if names}
    cache.remember(key, results)
    return results
