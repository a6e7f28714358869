"""Installs the packages of a Ruby part: what its lock says, for this Ruby and this system."""

from __future__ import annotations

import os
import posixpath
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from plainfall.ecosystems.ruby.clients.configuration import mirrors_of, user_connection
from plainfall.ecosystems.ruby.install.building import Builder, extension_folder
from plainfall.ecosystems.ruby.install.laying import Laying, lay, place_of, write_descriptions
from plainfall.ecosystems.ruby.install.store import Store
from plainfall.ecosystems.ruby.lists.gemfile import Manifest, applies, manifest_at
from plainfall.ecosystems.ruby.lists.locks import Lock, Locked, Source, read_lock
from plainfall.ecosystems.ruby.resolve.versions import requirement, system, takes_system, version
from plainfall.ecosystems.ruby.resolve.wishes import (
    machine_of,
    manifest_folder,
    resolved_lock,
    whole_manifest,
    write_manifest,
)
from plainfall.ecosystems.ruby.runtime.interpreters import default_packages, library_of
from plainfall.ecosystems.shape import Foreseen, Installation, InstallJob
from plainfall.ecosystems.shared.lock_fit import refuse_unfit_lock
from plainfall.ecosystems.shared.programs import own_folder
from plainfall.errors import DependencyProblem
from plainfall.evidence import Evidence
from plainfall.packages.placing import Folders, Placement, place_files
from plainfall.writing import digest_of

__all__ = ["foreseen", "home_of", "install"]

_LIBRARY = "bundler"


def home_of(folder: Path, access: Any) -> Path:
    """A part's own home of packages."""
    return own_folder("gems", folder, access)


def foreseen(job: InstallJob, manifest_path: str) -> Foreseen | None:
    """What the lock comes to on this machine, with the manifest as far as its plain lines go; None without a
    lock."""
    if job.listed.kind != "lock":
        return None
    lock = read_lock(job.clone, job.listed.path)
    wanted = _wanted(job, manifest_at(job.clone, manifest_path), lock)
    return Foreseen(tuple(dict.fromkeys(one.label for one in wanted)), frozenset({_LIBRARY}))


def install(
    job: InstallJob, manifest_path: str, environment: str, variables: Mapping[str, str]
) -> Installation:
    """Makes the home of packages hold what the lock says. ``variables`` are those of the part's commands,
    ``environment`` the environment's folder, from which the layout counts. Raises what reading, choosing, store,
    laying and building raise."""
    taken, inside = job.choice.taken, job.access.confined
    home = home_of(job.folder, job.access)
    manifest = whole_manifest(job, manifest_path, variables)
    store = Store(
        job.surroundings.cache, job.surroundings.variables, user_connection(job.surroundings),
        mirrors_of(job.surroundings), job.listed.path,
        str(taken.file) if job.wishes.lets_run(manifest_path) else "",
    )  # fmt: skip
    remarks: list[str] = []
    try:
        if job.listed.kind == "lock":
            lock = read_lock(job.clone, job.listed.path)
            _check_fits(manifest, lock)
            lock = _for_this_system(job, manifest, lock, store, remarks)
        else:
            lock = resolved_lock(job, manifest, store, variables)
        wanted = _wanted(job, manifest, lock)
        wanted += _library(job, lock, store, remarks)
        places = {place_of(one): one for one in wanted}
        making = job.clone / ".plainfall" / "laying" / digest_of(str(job.folder), "ruby")[:12]
        before = {str(key): str(one) for key, one in job.memory.get("laid", {}).items()}
        done = lay(home, places, store, making, before, job.progress, job.access)
    finally:
        store.close()
    _link_library(job, home)
    unsaid = sorted(
        str(facts["name"])
        for place, facts in done.described.items()
        if not facts.get("checked", True) and not places[place].checksum
    )
    if unsaid:
        names = ", ".join(unsaid[:6]) + (f" and {len(unsaid) - 6} more" if len(unsaid) > 6 else "")
        remarks.append(f"neither lock nor registry has a checksum of {names}: what came could not be checked")
    programs = write_descriptions(
        inside,
        home,
        done.described,
        str(taken.facts["rubygems"]),
        job.memory.get("programs", {}),
        list(places),
    )
    described = {**job.memory.get("extensions", {}), **{
        place: facts for place, facts in done.described.items() if facts["extensions"]
    }}  # fmt: skip
    described = {place: facts for place, facts in described.items() if place in places}
    built, withheld = _built(job, home, described, done, places, variables)
    if withheld:
        names = ", ".join(withheld)
        remarks.append(
            f"not built, though they have code to compile (--allow-install-code NAME lets one): {names}"
        )
    layout: dict[str, Sequence[str]] = {
        f"{home}/specifications": sorted(
            f"{posixpath.basename(place)}.gemspec" for place in places if place.startswith("gems/")
        ),
        f"{home}/bin": sorted({name for names in programs.values() for name in names}),
        **{f"{home}/{place}": names for place, names in done.names.items()},
    }
    return Installation(
        laid=tuple(done.laid),
        kept=tuple(done.kept),
        taken_out=tuple(done.taken_out),
        fetched=done.fetched,
        fetched_bytes=done.fetched_bytes,
        built=tuple(built),
        resolved=job.listed.kind != "lock",
        remarks=tuple(remarks),
        memory={"laid": done.keys, "programs": programs, "extensions": described},
        layout={
            os.path.relpath(place, job.folder / environment): entries
            for place, entries in layout.items()
            if entries
        },
        withheld=tuple(withheld),
    )


def _check_fits(manifest: Manifest, lock: Lock) -> None:
    """Raises DependencyProblem where the manifest asks for what is not in the lock, or in another version."""
    wrong = []
    for wish in manifest.wishes:
        if wish.name == _LIBRARY:
            continue
        if wish.name not in lock.wishes:
            wrong.append(f"{wish.name} is not in it ({wish.place})")
            continue
        try:
            rule = requirement(", ".join(wish.requirements))
        except ValueError as error:
            wrong.append(f"{wish.name}: {error} ({wish.place})")
            continue
        found = lock.named(wish.name)
        if found and not any(rule.admits(version(one.version)) for one in found):
            wrong.append(f"{wish.name} is {found[0].version} in it, and {rule} is asked for ({wish.place})")
    refuse_unfit_lock(wrong, lock.path)


def _for_this_system(
    job: InstallJob, manifest: Manifest, lock: Lock, store: Store, remarks: list[str]
) -> Lock:
    """The lock as it is where it is for this system; else one of ours, with the same versions for this one."""
    here = machine_of(job).system
    name = str(job.choice.taken.facts["system"])
    ours = manifest_folder(job.folder, job.access)
    foreign = {
        one.name
        for one in lock.packages
        if not any(takes_system(here, system(other.system)) for other in lock.named(one.name))
    }
    fits = not lock.systems or any(takes_system(here, system(one)) for one in lock.systems)
    if fits and not foreign:
        job.access.confined.remove(ours)
        return lock
    added = []
    for package in sorted(foreign):
        one = lock.named(package)[0]
        offers = [
            offer
            for offer in store.offers.of(package, one.source.remotes)
            if offer.version == one.version and takes_system(here, system(offer.system))
        ]
        best = min(offers, key=lambda offer: offer.system == "ruby", default=None)
        if best is None:
            raise DependencyProblem(
                f"{one.label} is in the lock for {one.system} only, and no registry of it has it for {name}",
                place=one.place,
                remedy="Write the lock again for this system, too, with its tool, or take another version.",
            )
        added.append(replace(one, system=best.system, needs=best.needs, checksum=best.checksum))
    folder = posixpath.dirname(lock.path)
    moved = [
        replace(one, source=replace(one.source, remotes=tuple(
            os.path.relpath(job.clone / folder / remote, ours) for remote in one.source.remotes)))
        if one.source.kind == "path" else one
        for one in (*lock.packages, *added)
    ]  # fmt: skip
    lock = replace(lock, packages=tuple(moved), systems=(*lock.systems, name))
    write_manifest(job, manifest, lock)
    what = f"; {', '.join(one.label for one in added)} taken for it in the same version" if added else ""
    remarks.append(f"the lock is not for {name}: a copy that is lies in .plainfall{what}")
    return lock


def _wanted(job: InstallJob, manifest: Manifest, lock: Lock) -> list[Locked]:
    """The packages to lay: all that the manifest's own lead to on this machine, but the clone's own folders and
    what the runtime has in that very version."""
    taken = job.choice.taken
    here = machine_of(job).system
    wished = {
        one.name
        for one in manifest.wishes
        if applies(one.platforms, taken.version, str(taken.facts["system"]))
    }
    elsewhere = {one.name for one in manifest.wishes} - wished
    waiting = [name for name in lock.wishes if name not in elsewhere]
    found: dict[str, Locked] = {}
    while waiting:
        name = waiting.pop()
        if name in found or name == _LIBRARY:
            continue
        one = _best(lock.named(name), here)
        if one is None:
            if name in default_packages(taken):
                continue
            raise DependencyProblem(
                f"{name} is needed, and the lock does not list it for this system",
                place=Evidence(lock.path),
                remedy="Restore the lock from version control, or write it again with its tool.",
            )
        found[name] = one
        waiting += one.needs
    own = default_packages(taken)
    kept = []
    for name, one in sorted(found.items()):
        if one.source.kind == "path":
            _check_folder(job, lock, one)
        elif own.get(name) != one.version or one.source.kind != "gem":
            kept.append(one)
    return kept


def _best(found: Sequence[Locked], here: Any) -> Locked | None:
    """Of a package's entries the one for this system: one that is made for it before one that is compiled here."""
    fitting = [one for one in found if takes_system(here, system(one.system))]
    return min(fitting, key=lambda one: one.system == "ruby", default=None)


def _check_folder(job: InstallJob, lock: Lock, package: Locked) -> None:
    base = job.clone / posixpath.dirname(lock.path)
    if lock.path == job.listed.path and job.listed.kind != "lock":
        base = manifest_folder(job.folder, job.access)
    for remote in package.source.remotes:
        options = (base / remote, manifest_folder(job.folder, job.access) / remote)
        real = [Path(os.path.realpath(one)) for one in options]
        if not any(one.is_relative_to(os.path.realpath(job.clone)) and one.is_dir() for one in real):
            raise DependencyProblem(
                f"{package.label} is to be the folder {remote[:200]}, which is no folder of the clone",
                place=package.place,
                remedy="Fetch what belongs there, or take the entry out.",
            )


def _library(
    job: InstallJob, lock: Lock, store: Store, remarks: list[str]
) -> Iterator[Locked] | list[Locked]:
    """The library of the package client, where the runtime has none: as the lock names it, if this Ruby takes
    it."""
    taken = job.choice.taken
    if library_of(taken) is not None:
        return []
    registries = [
        remote for one in lock.packages if one.source.kind == "gem" for remote in one.source.remotes
    ]
    offers = store.offers.of(_LIBRARY, tuple(dict.fromkeys(registries))) if registries else []
    fitting = [
        one
        for one in offers
        if requirement(one.ruby).admits(version(taken.version)) and not version(one.version).is_prerelease
    ]
    exact = [one for one in fitting if one.version == lock.bundled_with]
    best = exact[0] if exact else max(fitting, key=lambda one: version(one.version), default=None)
    if best is None:
        raise DependencyProblem(
            f"Ruby {taken.version} is here without the library of its package client ({_LIBRARY}), and no registry "
            "of the lock has it for this Ruby",
            place=Evidence(lock.path),
            remedy="On Debian and its kin: sudo apt-get install ruby-bundler; then run the same command again.",
        )
    if not exact and lock.bundled_with:
        remarks.append(f"{_LIBRARY} {best.version} is used; the lock was written by {lock.bundled_with}")
    source = Source("gem", (best.registry,))
    return [Locked(_LIBRARY, best.version, best.system, {}, source, Evidence(lock.path), best.checksum)]


def _link_library(job: InstallJob, home: Path) -> None:
    """Makes the runtime's own library of the package client findable from the home of packages."""
    library = library_of(job.choice.taken)
    if library is None or library[3]:
        return
    number, folder, described, _ = library
    name = f"{_LIBRARY}-{number}"
    inside = job.access.confined
    for place, target in ((f"gems/{name}", folder), (f"specifications/{name}.gemspec", described)):
        path = home / place
        if not path.is_symlink() or os.readlink(path) != target:
            inside.remove(path)
            inside.link(path, target)


def _built(
    job: InstallJob,
    home: Path,
    described: Mapping[str, Mapping[str, Any]],
    done: Laying,
    places: Mapping[str, Locked],
    variables: Mapping[str, str],
) -> tuple[list[str], list[str]]:
    """Builds the extensions of packages whose code may run; returns the labels of those whose code ran, and the
    names of those whose code did not."""
    builder = Builder(job.surroundings.cache, job.choice.taken, home, variables, job.wishes.code_seconds)
    built: list[str] = []
    withheld: list[str] = []
    for place, facts in sorted(described.items(), key=lambda pair: _rank(pair[1])):
        full = posixpath.basename(place)
        target = home / extension_folder(job.choice.taken, full)
        if (target / "gem.build_complete").is_file() and place not in done.described:
            continue
        if facts["name"] not in job.wishes.allowed:
            withheld.append(str(facts["name"]))
            continue
        helpers = _helpers(place, places, done.keys)
        key = builder.key(done.keys[place], helpers, allowed=True)
        tree = builder.built(key)
        if tree is None:
            job.progress(len(built), len(described), f"building {facts['name']}")
            label = f"{facts['name']} {facts['version']}"
            tree = builder.build(label, facts, home / place, key, helpers, places[place].place)
            built.append(label)
        job.access.confined.remove(target)
        library = home / place / str((facts["require_paths"] or ["lib"])[0])
        for folder in (target, library):
            job.access.confined.make_folder(folder)
            rows = (Placement(f"{tree.folder}/{one.path}", f"{folder}/{one.path}") for one in tree.files)
            place_files(rows, Folders(folder))
        job.access.confined.write(target / "gem.build_complete", "")
    return built, sorted(withheld)


def _helpers(place: str, places: Mapping[str, Locked], keys: Mapping[str, str]) -> dict[str, str]:
    """The packages that a package needs, and those that they need: full name → key of the tree."""
    by_name = {one.name: other for other, one in places.items()}
    found: dict[str, str] = {}
    waiting = list(places[place].needs)
    while waiting:
        other = by_name.get(waiting.pop())
        if other is not None and other != place and posixpath.basename(other) not in found:
            found[posixpath.basename(other)] = keys[other]
            waiting += places[other].needs
    return found


def _rank(facts: Mapping[str, Any]) -> tuple[int, str]:
    """Packages that need few others first: one may need another to be built."""
    return len(facts["needs"]), str(facts["name"])
