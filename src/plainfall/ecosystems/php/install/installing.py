"""Installing PHP packages, in the shape that every language has."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from plainfall.ecosystems.shape import Foreseen, Installation, InstallJob
from plainfall.ecosystems.shared.plain_language import PlainInstalling
from plainfall.ecosystems.shared.programs import names_folder

__all__ = ["PhpInstalling"]

_LARGEST = 1 << 22  # bytes of a manifest


class PhpInstalling(PlainInstalling):
    """Locks, and packages that a repository holds itself."""

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
