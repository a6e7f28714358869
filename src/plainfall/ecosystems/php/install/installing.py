"""Installing PHP packages, in the shape that every language has."""

from __future__ import annotations

import os
from collections.abc import Collection, Mapping, Sequence
from pathlib import Path
from typing import Any

from plainfall.clone.parts import Addition, PartFound
from plainfall.clone.walk import Tree
from plainfall.ecosystems.own_files import names_folder
from plainfall.ecosystems.shape import Foreseen, Installation, InstallJob
from plainfall.evidence import Evidence
from plainfall.packages.consent import Withheld

__all__ = ["PhpInstalling"]

_LARGEST = 1 << 22  # bytes of a manifest


class PhpInstalling:
    """Locks, and packages that a repository holds itself."""

    def withheld(self, job: InstallJob) -> Sequence[Withheld]:
        return ()  # of a clone's own configuration no login is taken at all

    def missing_driver(self, settings: Mapping[str, str], names: Collection[str]) -> tuple[str, str] | None:
        return None  # drivers are extensions of the runtime

    def package_for(self, tree: Tree, part: PartFound, module: str) -> Addition | None:
        return None

    def extra_with(self, tree: Tree, part: PartFound, addition: Addition) -> str:
        return ""

    def says_to_work_with(self, tree: Tree, part: PartFound) -> Mapping[str, Evidence]:
        return {}

    def may_resolve(self, part: PartFound) -> bool:
        return False

    def package_names(self, module: str) -> frozenset[str]:
        return frozenset({module.lower()})

    def runs_own_code(self, job: InstallJob) -> Sequence[Evidence]:
        return ()

    def foreseen(self, job: InstallJob) -> Foreseen | None:
        from plainfall.ecosystems.php.install.packages import foreseen

        return Foreseen(()) if job.listed.kind == "held" else foreseen(job, _document(job))

    def install(self, job: InstallJob) -> Installation:
        from plainfall.ecosystems.php.install.packages import install

        environment = os.path.relpath(names_folder(job.folder, job.access), job.folder)
        if job.listed.kind == "held":
            vendor = Path(job.listed.path).parent
            layout = {os.path.relpath(job.clone / vendor, job.folder / environment): ["autoload.php"]}
            return Installation(title="the repository holds its packages itself", layout=layout)
        return install(job, _document(job), environment)


def _document(job: InstallJob) -> dict[str, Any]:
    from plainfall.ecosystems.php.lists.manifests import MANIFEST
    from plainfall.reading import clone_text, json_object

    inside = job.folder.relative_to(job.clone).as_posix() if job.folder != job.clone else ""
    path = f"{inside}/{MANIFEST}" if inside else MANIFEST
    return json_object(clone_text(job.clone, path, _LARGEST), path)
