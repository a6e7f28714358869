"""Installing Node packages, in the shape that every language has."""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import Any

from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.lists.discover import folders_to
from plainfall.ecosystems.node.runtime.asks import manifest
from plainfall.ecosystems.node.runtime.environments import NodeEnvironment
from plainfall.ecosystems.shape import Foreseen, Installation, InstallJob
from plainfall.ecosystems.shared.plain_language import PlainInstalling
from plainfall.packages.consent import Withheld

__all__ = ["NodeInstalling"]


class NodeInstalling(PlainInstalling):
    """Locks of the package clients, manifests without one, browser components."""

    def withheld(self, job: InstallJob) -> Sequence[Withheld]:
        from plainfall.ecosystems.node.clients.configuration import project_withholds

        return project_withholds(job.surroundings, folders_to(job.clone, job.folder), job.wishes.hosts)

    def package_names(self, module: str) -> frozenset[str]:
        return frozenset({"/".join(module.split("/")[: 2 if module.startswith("@") else 1]).lower()})

    def foreseen(self, job: InstallJob) -> Foreseen | None:
        from plainfall.ecosystems.node.install.packages import foreseen

        if job.listed.kind == "workspace":
            return Foreseen(())
        return foreseen(job, _document(job))

    def install(self, job: InstallJob) -> Installation:
        if job.listed.kind == "workspace":
            return Installation(title=f"installed with {job.listed.reason}")
        from plainfall.ecosystems.node.install.packages import install

        document = _document(job)
        environment = NodeEnvironment()
        environment.prepare(job.folder, job.choice, job.access)
        own = environment.variables(job.folder, job.choice, job.access)
        variables = job.surroundings.for_project()
        variables |= {**own, "PATH": os.pathsep.join((own["PATH"], variables["PATH"]))}
        return install(job, document, variables)


def _document(job: InstallJob) -> dict[str, Any]:
    inside = str(job.folder.relative_to(job.clone)) if job.folder != job.clone else ""
    path = f"{inside}/package.json" if inside else "package.json"
    return manifest(Tree(job.clone, (path,) if (job.clone / path).is_file() else ()), inside)
