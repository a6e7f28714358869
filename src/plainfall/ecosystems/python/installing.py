"""Installing Python packages, in the shape that every language has."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence

from plainfall.clone.walk import Tree
from plainfall.ecosystems.python.drivers import missing_driver
from plainfall.ecosystems.python.environments import virtual_environment
from plainfall.ecosystems.shape import Installation, InstallJob
from plainfall.errors import ValueNeeded
from plainfall.packages.consent import Withheld, withheld_words

__all__ = ["PythonInstalling"]


class PythonInstalling:
    """Locks, requirements files and manifests, as wheels into a virtual environment."""

    def withheld(self, job: InstallJob) -> Sequence[Withheld]:
        from plainfall.ecosystems.python.requirements import read_requirements

        if job.listed.kind != "requirements.txt":
            return ()
        return read_requirements(job.listed.path, Tree(job.clone, ()).text, {}, job.wishes.hosts).withheld

    def missing_driver(self, settings: Mapping[str, str], names: Collection[str]) -> tuple[str, str] | None:
        return missing_driver(settings, names)

    def package_names(self, module: str) -> frozenset[str]:
        top = re.sub(r"[-_]+", "-", re.split(r"[./]", module)[0]).lower()
        return frozenset({top, f"python-{top}", f"py{top}", f"{top}-python"})

    def install(self, job: InstallJob) -> Installation:
        from plainfall.ecosystems.python.dependencies import install, layout_of
        from plainfall.ecosystems.python.job import Job
        from plainfall.ecosystems.python.lists.discover import read_list, stale_remarks
        from plainfall.ecosystems.python.pins import Target

        tree = Tree(job.clone, ())
        markers = job.choice.taken.facts["markers"]
        target = Target(
            markers, job.wishes.extras, job.wishes.groups, job.surroundings.variables, job.wishes.hosts
        )
        read = read_list(tree, job.listed.path, job.listed.kind, target)
        if read.withheld:
            raise ValueNeeded(
                "the list asks for your credentials, which need your consent",
                place=read.withheld[0].evidence,
                remedy=f"{withheld_words(read.withheld)}. It is remembered for this clone and this host.",
            )
        environment = virtual_environment(job.folder, job.choice)
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
        )
