"""What a Ruby part asks for, as packages to find: manifests, gemspecs of the clone, commits; and the lock that
this comes to where the clone has none."""

from __future__ import annotations

import os
import posixpath
import re
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from plainfall.ecosystems.ruby.clients.configuration import mirrors_of, user_connection
from plainfall.ecosystems.ruby.install.store import Store
from plainfall.ecosystems.ruby.lists.evaluating import Described, evaluate_gemspecs, evaluated
from plainfall.ecosystems.ruby.lists.gemfile import Manifest, Wish, applies, manifest_at
from plainfall.ecosystems.ruby.lists.locks import Lock, Locked, Source
from plainfall.ecosystems.ruby.resolve.index import Offers
from plainfall.ecosystems.ruby.resolve.metadata import ruby_text
from plainfall.ecosystems.ruby.resolve.resolving import Asked, Machine, lock_text, resolve
from plainfall.ecosystems.ruby.resolve.versions import requirement, system
from plainfall.ecosystems.ruby.runtime.interpreters import default_packages, library_of
from plainfall.ecosystems.shape import InstallJob
from plainfall.ecosystems.shared.programs import own_folder
from plainfall.errors import BadInput, DependencyProblem, ValueNeeded
from plainfall.evidence import Evidence
from plainfall.packages.checkouts import references_of
from plainfall.plain_files import plain_text
from plainfall.writing import digest_of

__all__ = ["Listed", "machine_of", "manifest_folder", "resolved_lock", "whole_manifest", "write_manifest"]

_NEED = re.compile(r"add_runtime_dependency\(%q<([\w.-]+)>(?:\.freeze)?, \[([^\]]*)\]\)")


class Listed(Struct, frozen=True):
    """A lock that counts, and the manifest that it is of."""

    lock: Lock
    manifest: Manifest


def machine_of(job: InstallJob) -> Machine:
    """What packages may ask of the chosen runtime."""
    taken = job.choice.taken
    return Machine(
        taken.version,
        str(taken.facts["rubygems"]),
        system(str(taken.facts["system"])),
        default_packages(taken),
        taken.facts.get("needs") or {},
    )


def manifest_folder(job_folder: Path, access: object) -> Path:
    """The folder of a manifest of ours, which includes the clone's and has another lock beside it."""
    return own_folder("manifests", job_folder, access)  # type: ignore[arg-type]


def whole_manifest(job: InstallJob, path: str, variables: Mapping[str, str]) -> Manifest:
    """The manifest, evaluated by Ruby where it is not plain; where its code may not run here, and a lock says
    what is needed, only its plain lines. Raises BadInput, CommandFailed, ValueNeeded."""
    manifest = manifest_at(job.clone, path)
    if not manifest.unread:
        return manifest
    if not job.wishes.lets_run(path):
        if job.listed.kind == "lock":
            return manifest
        raise ValueNeeded(
            f"{path} is a program here, not a plain list, and there is no lock: Ruby has to run it to know what it "
            "asks for",
            place=manifest.unread[0],
            remedy=f"Look at it, then let it run: --allow-install-code {posixpath.basename(path)}. (A run without "
            "--until goes on to run the project's code in any case.)",
        )
    return evaluated(manifest, job.clone, job.folder, job.choice.taken.file, variables)


def resolved_lock(job: InstallJob, manifest: Manifest, store: Store, variables: Mapping[str, str]) -> Lock:
    """The lock that the manifest came to before, if it asks for the same; else versions are chosen now, and it is
    kept. Raises what resolving raises."""
    from plainfall.ecosystems.ruby.lists.locks import read_lock

    folder = manifest_folder(job.folder, job.access)
    kept, mark = folder / "Gemfile.lock", folder / "asked.json"
    described = _described(job, manifest, variables)
    machine = machine_of(job)
    asked = digest_of(
        [(one.name, one.requirements, one.platforms, sorted(one.source.items())) for one in manifest.wishes],
        manifest.sources, [(one.name, one.version, sorted(one.needs.items())) for one in described],
        machine.ruby, job.choice.taken.facts["system"],
    )  # fmt: skip
    if kept.is_file() and mark.is_file() and plain_text(mark, "utf-8") == asked:
        return read_lock(job.clone, kept.relative_to(job.clone).as_posix())
    lock = _resolve(job, manifest, described, store, machine)
    write_manifest(job, manifest, lock)
    job.access.confined.write(mark, asked)
    return lock


def write_manifest(job: InstallJob, manifest: Manifest, lock: Lock) -> None:
    """Writes a manifest of ours that includes the clone's, with this lock beside it."""
    folder = manifest_folder(job.folder, job.access)
    job.access.confined.write(folder / "Gemfile.lock", lock_text(lock))
    up = os.path.relpath(job.clone / manifest.path, folder)
    text = f"# Written by Plainfall.\neval_gemfile File.expand_path({ruby_text(up)}, __dir__)\n"
    job.access.confined.write(folder / "Gemfile", text)


def _described(job: InstallJob, manifest: Manifest, variables: Mapping[str, str]) -> list[Described]:
    """The gemspecs of the clone that the manifest takes packages from."""
    places = [*manifest.gemspecs, *(one.source["path"] for one in manifest.wishes if "path" in one.source)]
    folders = dict.fromkeys(posixpath.normpath(one) for one in places)
    files: list[Path] = []
    for one in folders:
        folder = Path(os.path.realpath(job.folder / one))
        if not folder.is_relative_to(os.path.realpath(job.clone)):
            raise DependencyProblem(
                f"a package is to be the folder {one[:200]}, which is no folder of the clone",
                place=Evidence(manifest.path),
                remedy="Fetch what belongs there into the clone, or take the line out.",
            )
        found = sorted(folder.glob("*.gemspec")) or sorted(folder.glob("*/*.gemspec"))
        files += [file for file in found if not file.is_symlink()]
    if files and not job.wishes.lets_run(manifest.path):
        raise ValueNeeded(
            f"{files[0].name} is a program, and there is no lock: Ruby has to run it to know what it asks for",
            place=Evidence(os.path.relpath(files[0], os.path.realpath(job.clone))),
            remedy=f"Look at it, then let it run: --allow-install-code {posixpath.basename(manifest.path)}.",
        )
    return evaluate_gemspecs(files, job.clone, job.choice.taken.file, variables)


def _resolve(
    job: InstallJob, manifest: Manifest, described: Sequence[Described], store: Store, machine: Machine
) -> Lock:
    taken = job.choice.taken
    here = str(taken.facts["system"])
    wishes = [one for one in manifest.wishes if applies(one.platforms, taken.version, here)]
    given = [*_of_clone(job, described), *_of_commits(wishes, store)]
    names = {one.name for one in given}
    asked: list[Asked] = []
    unsought: dict[str, str] = {}  # part of the runtime's own library
    for one in wishes:
        if one.name not in names and one.name != "bundler":
            asked.append(Asked(one.name, _rule(one), one.place, one.source.get("source", "")))
    own = [_folder_of(one, job) for one in described]
    roots = {posixpath.normpath(one) for one in manifest.gemspecs}
    for spec, folder in zip(described, own, strict=True):
        if os.path.relpath(folder, job.folder) in roots:
            for name, rule in spec.for_development.items():
                if name == "bundler":
                    unsought[name] = rule
                elif name not in names and name not in {wish.name for wish in asked}:
                    asked.append(Asked(name, rule, Evidence(manifest.path)))
    if not manifest.sources and any(not one.registry for one in asked):
        raise DependencyProblem(
            "the manifest names no registry (source), and no lock says where its packages are",
            place=Evidence(manifest.path, 1),
            remedy='Name one in it, as source "https://registry.example", or get the lock of a teammate.',
        )
    offers = Offers(
        manifest.sources,
        user_connection(job.surroundings),
        job.surroundings.variables,
        mirrors_of(job.surroundings),
    )
    try:
        packages = resolve(asked, given, manifest.path, offers, machine)
    finally:
        offers.close()
    rules = {**unsought, **{one.name: one.rule for one in asked}}
    for known in given:
        stated = next((wish for wish in wishes if wish.name == known.name), None)
        rules[known.name] = _rule(stated) if stated is not None else ""
    rules |= {one.name: _rule(one) for one in manifest.wishes if one.name not in rules}
    library = library_of(taken)
    merged = [
        replace(
            one,
            source=replace(one.source, remotes=tuple(f"{each.rstrip('/')}/" for each in manifest.sources)),
        )
        if one.source.kind == "gem"
        and one.source.remotes[0] in {f"{each.rstrip('/')}/" for each in manifest.sources}
        else one
        for one in packages
    ]
    bundled = (
        library[0]
        if library is not None
        else next((one.version for one in packages if one.name == "bundler"), "")
    )
    ruby = (
        f"{taken.version}p{taken.facts.get('patchlevel', 0)}" if manifest.ruby or manifest.ruby_file else ""
    )
    return Lock(manifest.path, tuple(merged), (here,), rules, ruby, bundled)


def _rule(wish: Wish) -> str:
    try:
        return str(requirement(", ".join(wish.requirements)))
    except ValueError as error:
        raise BadInput(
            str(error), place=wish.place, remedy='Write one such as gem "name", "~> 1.2".'
        ) from None


def _folder_of(one: Described, job: InstallJob) -> Path:
    return Path(one.file).parent


def _of_clone(job: InstallJob, described: Sequence[Described]) -> Iterator[Locked]:
    ours = manifest_folder(job.folder, job.access)
    for one in described:
        remote = os.path.relpath(Path(one.file).parent, ours)
        yield Locked(one.name, one.version, "ruby", one.needs, Source("path", (remote,)), Evidence(one.file))


def _of_commits(wishes: Sequence[Wish], store: Store) -> Iterator[Locked]:
    """The packages that come from repositories: of each the commit that its line means now."""
    for one in wishes:
        address = one.source.get("git", "")
        if not address:
            continue
        wanted = one.source.get("ref") or one.source.get("tag") or one.source.get("branch") or "HEAD"
        known = references_of([address], store.variables)
        commit = known.get(wanted, wanted)
        if not re.fullmatch(r"[0-9a-f]{40}", commit):
            raise DependencyProblem(
                f"{one.name}: its repository has no branch, tag or commit {wanted[:60]!r}",
                place=one.place,
                lines=tuple(sorted(known)[:8]),
                remedy="Name one that is there.",
            )
        options = {key: one.source[key] for key in ("branch", "tag", "ref", "glob") if key in one.source}
        source = Source("git", (address,), commit, options)
        tree = store.tree(Locked(one.name, "0", "ruby", {}, source, one.place))
        text = next(
            (
                plain_text(tree.folder / file.path, "utf-8", "replace")
                for file in tree.files
                if file.path.rpartition("/")[2] == f"{one.name}.gemspec"
            ),
            "",
        )
        stub = re.search(r"^# stub: (\S+) (\S+) ", text, re.MULTILINE)
        if stub is None or stub.group(1) != one.name:
            raise DependencyProblem(
                f"{one.name}: its repository has no gemspec of that name",
                place=one.place,
                remedy="Check the address and the revision.",
            )
        needs = {name: ", ".join(re.findall(r'"([^"]+)"', rules)) for name, rules in _NEED.findall(text)}
        yield Locked(one.name, stub.group(2), "ruby", needs, source, one.place)
