"""Installs the packages of a Node part's lock, or those that its manifest is resolved to."""

from __future__ import annotations

import os
import re
from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from plainfall.ecosystems.node.clients.configuration import Registries, read_registries
from plainfall.ecosystems.node.install.components import install_components
from plainfall.ecosystems.node.install.laying import lay
from plainfall.ecosystems.node.install.own_code import code_remarks, run_allowed, withheld_code
from plainfall.ecosystems.node.install.repositories import repository_source
from plainfall.ecosystems.node.install.store import Store
from plainfall.ecosystems.node.lists.discover import COMPONENTS, disagreements, folders_to, read_lock
from plainfall.ecosystems.node.lists.locks.package import LockRead, Package, wanted_here, with_systems
from plainfall.ecosystems.node.lists.locks.package_lock import read_package_lock
from plainfall.ecosystems.node.recognise.workspaces import linked_folders, workspaces
from plainfall.ecosystems.node.resolve.peers import unmet, with_peers
from plainfall.ecosystems.node.resolve.resolving import TABLES, lock_text, resolve
from plainfall.ecosystems.shape import Foreseen, Installation, InstallJob
from plainfall.errors import RegistryProblem
from plainfall.packages.consent import withheld_words
from plainfall.plain_files import plain_text
from plainfall.writing import digest_of

__all__ = ["install", "registries_of"]


def registries_of(job: InstallJob, document: Mapping[str, Any]) -> tuple[Registries, str]:
    """The registries that are configured; where none is, and no client here names one, the address that most
    entries of the lock name, without any login, and a remark about it. Raises RegistryProblem."""
    folders, hosts = folders_to(job.clone, job.folder), job.wishes.hosts
    try:
        return read_registries(job.surroundings, job.choice.taken, folders, hosts), ""
    except RegistryProblem:
        if job.listed.kind in ("components", "unlocked"):
            raise
        read = read_lock(job.clone, job.listed.path, document)
        found = [_place_of(one) for one in read.packages]
        counted = Counter(one for one in found if one)
        if not counted:
            raise
        address = counted.most_common(1)[0][0]
        said = (
            f"no registry is configured on this machine: {address} was taken, which {job.listed.path} names"
        )
        return read_registries(job.surroundings, job.choice.taken, folders, hosts, address), said


def _by_manifests(
    read: LockRead, asked: Collection[str], store: Store, facts: Mapping[str, object]
) -> list[Package]:
    """The lock's packages that are wanted here, at their places; where its form says nothing of systems or peers,
    the packages' own manifests do, as far as they are in the cache."""
    packages = list(read.packages)
    if not read.knows_systems:
        packages = [with_systems(one, store.manifest(one) if one.optional else {}) for one in packages]
    wanted = wanted_here(packages, facts, asked)
    return wanted if read.knows_peers else with_peers(wanted, asked, store.manifest)


def _place_of(package: Package) -> str:
    """The registry's address in the address of a lock's entry; "" where it is none of a registry."""
    match = re.match(
        rf"((?:https://[^/@\s]+|http://(?:127\.0\.0\.1|localhost)(?::\d+)?)/(?:[^\s?#]*/)?){re.escape(package.name)}/-/",
        package.address,
    )
    return match.group(1) if match else ""


def _store(job: InstallJob, registries: Registries) -> Store:
    variables = dict(job.surroundings.variables)
    return Store(job.surroundings.cache, variables, registries.connection, registries, job.folder, job.clone)


def foreseen(job: InstallJob, document: Mapping[str, Any]) -> Foreseen | None:
    """What the lock comes to on this machine, as far as it and the package cache tell it; None without a lock."""
    if job.listed.kind in ("components", "unlocked"):
        return None
    registries, _ = registries_of(job, document)
    roots = [document, *workspaces(job.folder, document).values()]
    asked = {name for one in roots for table in TABLES for name in one.get(table) or {}}
    store = Store(
        job.surroundings.cache,
        dict(job.surroundings.variables),
        registries.connection,
        registries,
        job.folder,
        job.clone,
    )
    try:
        read = read_lock(job.clone, job.listed.path, document)
        wanted = _by_manifests(read, asked, store, job.choice.taken.facts)
    finally:
        store.close()
    return Foreseen(tuple(one.label for one in wanted if not one.bundled))


def install(job: InstallJob, document: Mapping[str, Any], variables: Mapping[str, str]) -> Installation:
    """Makes ``node_modules`` what the list says for this machine. ``document`` is the manifest, ``variables`` the
    environment for packages' own code that is allowed to run. Raises what resolving, store and laying raise, and
    CommandFailed."""
    clone, folder, listed, wishes = job.clone, job.folder, job.listed, job.wishes
    access = job.access
    registries, taken_from = registries_of(job, document)
    if listed.kind == "components":
        store = _store(job, registries)
        return _with_components(Installation(), store, job)
    resolved = listed.kind == "unlocked"
    members = workspaces(folder, document)
    roots = [document, *members.values()]
    asked = {name for one in roots for table in TABLES for name in one.get(table) or {}}
    store = _store(job, registries)
    allowed = wishes.allowed
    try:
        by_lock = not resolved
        read = (
            read_lock(clone, listed.path, document) if by_lock else _resolved(job, document, members, store)
        )
        facts = job.choice.taken.facts
        wanted = _by_manifests(read, asked, store, facts)
        packages = [one for one in wanted if not one.bundled]
        # A folder of its own: another part may be at work in its own at the same time.
        making = clone / ".plainfall" / "laying" / digest_of(str(folder))[:12]
        patched = _patched_in_place(folder)
        for place in dict.fromkeys(_tree_of(one.place) for one in packages):
            if not os.path.lexists(folder / place):
                job.making(folder / place)
        laid = lay(folder, packages, store, making, allowed, patched, job.progress, access)
        wanted = _by_manifests(read, asked, store, facts)
        known = [one for one in wanted if not one.bundled]
        if known != packages:  # what has just been fetched says more than the lock
            again = lay(folder, known, store, making, allowed, patched, job.progress, access)
            first = {one.label for one in known} - set(again.laid)
            laid = replace(
                again,
                laid=[*(one for one in laid.laid if one in first), *again.laid],
                kept=[one for one in laid.kept if one in first],
                taken_out=laid.taken_out,
                fresh=laid.fresh | again.fresh,
                fetched=laid.fetched,
                fetched_bytes=laid.fetched_bytes,
            )
            packages = known
    except RegistryProblem as error:
        words = withheld_words(registries.withheld)
        error.remedy += f" Not done: {words}." if words else ""
        raise
    finally:
        store.close()
    remarks = [taken_from] if taken_from else []
    unhashed = [one.label for one in packages if _lacks_hash(one)]
    if unhashed and not resolved:
        names = ", ".join(unhashed[:6]) + (f" and {len(unhashed) - 6} more" if len(unhashed) > 6 else "")
        remarks.append(f"the lock has no hash of {names}: what the registry gave could not be checked")
    remarks += [
        *read.remarks[:6],
        *disagreements(clone, listed, read, document),
        *_registry_remarks(registries),
    ]
    if laid.laid:  # a layout that was looked at before is still right
        remarks += _unmet_remarks(wanted, store)
    left_out = len(read.packages) - len(wanted)
    what = "1 optional package is" if left_out == 1 else f"{left_out} optional packages are"
    notes = (f"{what} for other machines and left out",) if left_out else ()
    ran = run_allowed(folder, laid, wishes, variables, access)
    remarks += code_remarks(laid, allowed)
    done = Installation(
        laid=tuple(laid.laid),
        kept=tuple(laid.kept),
        taken_out=tuple(laid.taken_out),
        fetched=laid.fetched,
        fetched_bytes=laid.fetched_bytes,
        built=tuple(ran),
        resolved=resolved,
        remarks=tuple(remarks),
        layout={f"../{place}": names for place, names in laid.layout.items()},
        withheld=withheld_code(laid, allowed),
        notes=notes,
    )
    return _with_components(done, store, job) if (folder / COMPONENTS).is_file() else done


def _tree_of(place: str) -> str:
    """The folder of packages that a place lies in, the outermost one."""
    above, name, _ = f"{place}/".partition("node_modules/")
    return above + name.rstrip("/") if name else place


def _unmet_remarks(packages: Sequence[Package], store: Store) -> list[str]:
    """What does not resolve from where it was laid: an error of ours, or of the lock."""
    wrong = unmet(packages, store.manifest)
    if not wrong:
        return []
    named = [f"{one.label} asks for {name} ({what})" for one, name, what in wrong]
    more = f" and {len(named) - 4} more" if len(named) > 4 else ""
    return [f"does not resolve as it lies: {'; '.join(named[:4])}{more}"]


def _lacks_hash(package: Package) -> bool:
    return not package.integrity and package.link is None and repository_source(package.address) is None


def _registry_remarks(registries: Registries) -> list[str]:
    """Remarks on the settings of the project's rc files that were ignored."""
    remarks = [f"not done: {words}"] if (words := withheld_words(registries.withheld)) else []
    if registries.ignored:
        keys = ", ".join(dict.fromkeys(key for key, _ in registries.ignored[:8]))
        place = registries.ignored[0][1]
        remarks.append(f"{place}: {keys} counts only in your own configuration, not in a clone's")
    return remarks


def _with_components(done: Installation, store: Store, job: InstallJob) -> Installation:
    """Installs browser components, where a list of their own names some."""
    before = store.fetched
    result = install_components(job.folder, store, job.state, job.progress, job.access, job.making)
    return replace(
        done,
        laid=(*done.laid, *result.laid),
        kept=(*done.kept, *result.kept),
        taken_out=(*done.taken_out, *result.taken_out),
        fetched=done.fetched + store.fetched - before,
        remarks=(*done.remarks, *result.remarks),
        layout={**done.layout, f"../{result.folder}": result.names},
    )


def _patched_in_place(folder: Path) -> frozenset[str]:
    """The names of packages for which a script of the clone has patches (``patches/NAME+VERSION.patch``, a
    nested one behind ``++``) that it puts on the installed files."""
    results = set()
    for path in (folder / "patches").glob("*.patch"):
        last = path.name.removesuffix(".patch").split("++")[-1]
        pieces = last.split("+")
        results.add("/".join(pieces[:2]) if last.startswith("@") else pieces[0])
    return frozenset(results)


def _resolved(
    job: InstallJob, document: Mapping[str, Any], members: Mapping[str, Mapping[str, Any]], store: Store
) -> LockRead:
    """What the manifests were resolved to before, if they ask for the same; else resolved now and kept."""
    tables = (*TABLES, "overrides", "resolutions", "pnpm")
    version = job.choice.taken.version
    major = version.partition(".")[0]
    manifests = {"": document, **members}
    worded = {folder: {table: one.get(table) for table in tables} for folder, one in manifests.items()}
    asked = digest_of(worded, _linked(store.part, manifests), major)
    kept, mark = job.state / "package-lock.json", job.state / "asked.json"
    if not kept.is_file() or not mark.is_file() or plain_text(mark, "utf-8") != asked:
        result = resolve(document, job.listed.path, members, store, version, job.progress)
        job.access.confined.write(kept, lock_text(document, result))
        job.access.confined.write(mark, asked)
    return read_package_lock(plain_text(kept, "utf-8"), str(kept), document)


def _linked(part: Path, manifests: Mapping[str, Mapping[str, Any]]) -> list[str]:
    """The text of every manifest in a folder that the manifests link to."""
    texts = []
    for folder, document in manifests.items():
        for inner in linked_folders(document):
            path = part / folder / inner / "package.json"
            if path.is_file():
                texts.append(plain_text(path, "utf-8", "replace"))
    return texts
