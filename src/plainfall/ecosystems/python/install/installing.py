"""Installing Python packages, in the shape that every language has."""

from __future__ import annotations

import os
import re
from collections.abc import Collection, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec.structs import replace

from plainfall.clone.parts import Addition, PartFound
from plainfall.clone.walk import Tree
from plainfall.ecosystems.python.recognise.drivers import missing_driver
from plainfall.ecosystems.python.runtime.environments import virtual_environment
from plainfall.ecosystems.shape import CloneAccess, Foreseen, Installation, InstallJob
from plainfall.errors import ValueNeeded
from plainfall.evidence import Evidence
from plainfall.packages.consent import Withheld, withheld_words
from plainfall.runtimes.choice import Choice

if TYPE_CHECKING:
    from plainfall.ecosystems.python.lists.pins import Listed, Target

__all__ = ["PythonInstalling"]

# Modules that older releases of the runtime or of its tools brought, and what brings them now.
_FORMERLY_THERE = {"pkg_resources": "setuptools<81", "distutils": "setuptools"}


class PythonInstalling:
    """Locks, requirements files and manifests, as wheels into a virtual environment."""

    def withheld(self, job: InstallJob) -> Sequence[Withheld]:
        from plainfall.ecosystems.python.lists.requirements import read_requirements

        if job.listed.kind != "requirements.txt":
            return ()
        return read_requirements(job.listed.path, Tree(job.clone, ()).text, {}, job.wishes.hosts).withheld

    def missing_driver(self, settings: Mapping[str, str], names: Collection[str]) -> tuple[str, str] | None:
        return missing_driver(settings, names)

    def package_for(self, tree: Tree, part: PartFound, module: str) -> Addition | None:
        top = module.partition(".")[0]
        former = _FORMERLY_THERE.get(top)
        if former is not None:
            place = Evidence("setuptools", 0, top)
            return Addition(former, place, place)
        from plainfall.ecosystems.python.recognise.additions import named_elsewhere, well_known
        from plainfall.ecosystems.python.recognise.console_scripts import console_scripts
        from plainfall.ecosystems.python.recognise.own_programs import own_project

        own = next((one for one in console_scripts(tree, part.path) if one.name == module), None)
        if own is not None:
            return Addition(part.path or ".", own.evidence, own.evidence, in_place=True)
        project = own_project(tree, part.path, top)
        if project is not None:  # never what a registry has under its name
            return Addition(project[0] or ".", project[1], project[1], in_place=True)
        found = named_elsewhere(tree, part.path, top)
        names = [module, module.rpartition(".")[0]] if "." in module else []  # of one name for many packages
        return found or next(
            (one for name in (*names, top) if (one := well_known(tree, part.path, name))), None
        )

    def holder_of(self, folder: Path, choice: Choice, access: CloneAccess, module: str) -> str:
        from plainfall.ecosystems.python.install.laying import installed_distributions, recorded_paths

        environment = virtual_environment(folder, choice, access)
        path = module.replace(".", "/")
        for distribution in installed_distributions(environment):
            for one in recorded_paths(environment, distribution.dist_info):
                if one in (f"{path}.py", f"{path}/__init__.py") or one.startswith(f"{path}."):
                    return distribution.key[0]
        return ""

    def extra_with(self, tree: Tree, part: PartFound, addition: Addition) -> str:
        from plainfall.ecosystems.python.recognise.additions import extra_with

        return extra_with(tree, part.dependencies, addition) if part.dependencies else ""

    def group_with(self, tree: Tree, part: PartFound, addition: Addition) -> str:
        from plainfall.ecosystems.python.recognise.additions import group_with

        return group_with(tree, part.dependencies, addition) if part.dependencies else ""

    def says_to_work_with(self, tree: Tree, part: PartFound) -> Mapping[str, Evidence]:
        from plainfall.ecosystems.python.recognise.additions import says_to_work_with

        return says_to_work_with(tree, part.path)

    def may_resolve(self, part: PartFound) -> bool:
        listed = part.dependencies
        return listed is not None and not listed.archives and not listed.is_complete

    def package_names(self, module: str) -> frozenset[str]:
        top = re.sub(r"[-_]+", "-", re.split(r"[./]", module)[0]).lower()
        return frozenset({top, f"python-{top}", f"py{top}", f"{top}-python"})

    def runs_own_code(self, job: InstallJob) -> Sequence[Evidence]:
        return ()

    def foreseen(self, job: InstallJob) -> Foreseen | None:
        from packaging.utils import canonicalize_name

        from plainfall.ecosystems.python.lists.discover import read_list

        read = _with_additions(
            read_list(Tree(job.clone, ()), job.listed.path, job.listed.kind, _target(job)), job
        )
        if read.pins is None:
            return None if read.wishes else Foreseen(())
        known = [
            (one.name, job.wishes.instead.get(one.name, one.version))
            for one in read.pins
            if not one.reference
        ]
        unsure = {one.name for one in read.pins if one.reference}
        unsure |= {"pip"} if job.wishes.with_client else set()
        unsure |= {canonicalize_name(line.name) for line in read.wishes if line.is_own}
        return Foreseen(tuple(f"{name} {version}" for name, version in known), frozenset(unsure))

    def install(self, job: InstallJob) -> Installation:
        from plainfall.ecosystems.python.install.dependencies import install, layout_of
        from plainfall.ecosystems.python.install.job import Job
        from plainfall.ecosystems.python.lists.discover import read_list, stale_remarks

        tree = Tree(job.clone, ())
        target = _target(job)
        read = read_list(tree, job.listed.path, job.listed.kind, target)
        read = _with_additions(read, job)
        if read.withheld:
            raise ValueNeeded(
                "the list asks for your credentials, which need your consent",
                place=read.withheld[0].evidence,
                remedy=f"{withheld_words(read.withheld)}. It is remembered for this clone and this host.",
            )
        environment = virtual_environment(job.folder, job.choice, job.access)
        lock = job.state / "pylock.toml"
        if job.wishes.keep_lock and read.pins is None:
            lock = job.folder / "pylock.toml"
        archives = job.memory.get("archives", {})
        done = install(
            Job(
                job.clone,
                read,
                environment,
                job.choice.taken,
                job.surroundings,
                target,
                lock,
                job.wishes.instead,
                archives,
                job.progress,
                job.access,
                job.wishes.as_of,
                rather=(*(job.wishes.rather or _of_its_own_lock(job, read, target)), *job.wishes.held_back),
                with_client=job.wishes.with_client,
            )
        )
        return Installation(
            laid=tuple(done.laid),
            kept=tuple(done.kept),
            taken_out=tuple(done.taken_out),
            unmanaged=tuple(done.unmanaged),
            fetched=done.fetched,
            fetched_bytes=done.fetched_bytes,
            built=tuple(done.built),
            resolved=done.resolved,
            remarks=(*read.remarks, *stale_remarks(tree, read, target), *done.remarks),
            memory={"archives": done.archives},
            layout=layout_of(environment),
            not_built=done.not_built,
        )


def _target(job: InstallJob) -> Target:
    """What of a list counts on this machine."""
    from plainfall.ecosystems.python.lists.pins import Target

    wishes = job.wishes
    markers = job.choice.taken.facts["markers"]
    return Target(markers, wishes.extras, wishes.groups, job.surroundings.variables, wishes.hosts)


def _of_its_own_lock(job: InstallJob, read: Listed, target: Target) -> tuple[str, ...]:
    """What the lock beside a manifest says, where the manifest is read for another folder's part (an example's):
    wishes that count where there is a choice."""
    above = job.listed.path.rpartition("/")[0]
    if read.pins is not None or job.clone / above == job.folder:
        return ()
    from plainfall.ecosystems.python.lists.discover import LOCK_NAMES, locked_versions

    place = f"{above}/" if above else ""
    locks = tuple(place + name for name in LOCK_NAMES if (job.clone / place / name).is_file())
    return locked_versions(Tree(job.clone, locks), above, target) if locks else ()


def _with_additions(read: Listed, job: InstallJob) -> Listed:
    """The list with what the part needs beyond it; a complete lock with nothing but the project itself."""
    listed = job.listed
    further = (*listed.additions, *(listed.unlisted if job.wishes.from_imports else ()))
    if not further:
        return read
    from plainfall.ecosystems.python.lists.manifests import requirement_at
    from plainfall.ecosystems.python.lists.requirements import RequirementLine

    folder = read.path.rpartition("/")[0]
    lines = []
    for one in further:
        if one.in_place:
            way = os.path.relpath(one.text, folder or ".")
            lines.append(RequirementLine(None, one.evidence, editable=True, reference=way, is_own=True))
        elif read.pins is None:
            lines.append(requirement_at(one.text, one.evidence))
    return replace(read, wishes=(*read.wishes, *lines))
