"""Installing Ruby's packages, in the shape that every language has."""

from __future__ import annotations

import os
from collections.abc import Sequence

from plainfall.ecosystems.ruby.lists.gemfile import MANIFESTS
from plainfall.ecosystems.ruby.runtime.environments import RubyEnvironment
from plainfall.ecosystems.shape import Foreseen, Installation, InstallJob
from plainfall.ecosystems.shared.plain_language import PlainInstalling
from plainfall.ecosystems.shared.programs import names_folder
from plainfall.evidence import Evidence

__all__ = ["RubyInstalling"]


class RubyInstalling(PlainInstalling):
    """Locks, and manifests without one."""

    def runs_own_code(self, job: InstallJob) -> Sequence[Evidence]:
        from plainfall.ecosystems.ruby.lists.gemfile import manifest_at

        manifest = manifest_at(job.clone, _manifest_path(job))
        places = [
            *manifest.unread[:1],
            *(Evidence(one) for one in manifest.gemspecs if job.listed.kind != "lock"),
        ]
        return [*places, *(one.place for one in manifest.wishes if "git" in one.source)][:3]

    def foreseen(self, job: InstallJob) -> Foreseen | None:
        from plainfall.ecosystems.ruby.install.packages import foreseen

        return foreseen(job, _manifest_path(job))

    def install(self, job: InstallJob) -> Installation:
        from plainfall.ecosystems.ruby.install.packages import install

        environment = os.path.relpath(names_folder(job.folder, job.access), job.folder)
        own = RubyEnvironment().variables(job.folder, job.choice, job.access)
        person = job.surroundings.for_project()
        # Without the programs of packages: none of them is to run under the name of a tool while others are built.
        names = str(names_folder(job.folder, job.access))
        path = os.pathsep.join(filter(None, [names, person.get("PATH", "")]))
        variables = {**person, **own, "PATH": path}
        return install(job, _manifest_path(job), environment, variables)


def _manifest_path(job: InstallJob) -> str:
    inside = job.folder.relative_to(job.clone).as_posix() if job.folder != job.clone else ""
    name = next((one for one in MANIFESTS if (job.folder / one).is_file()), MANIFESTS[0])
    return f"{inside}/{name}" if inside else name
