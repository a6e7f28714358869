"""Lines of a list that say where a package is, instead of which (PEP 508, direct references): a path, an archive's
address, a revision under version control."""

from __future__ import annotations

import os
import re

from plainfall.ecosystems.python.lists.pins import Reference
from plainfall.ecosystems.python.lists.requirements import RequirementLine
from plainfall.errors import BadInput
from plainfall.packages.digests import ALGORITHMS, Digest

__all__ = ["reference_of"]


def reference_of(line: RequirementLine, folder: str) -> Reference:
    """What a direct reference of a list means; ``folder`` is the list's, relative to the clone."""
    text = (line.reference or "").strip()
    address, _, fragment = text.partition("#")
    inner = re.search(r"subdirectory=([^&]+)", fragment)
    subfolder = inner.group(1) if inner else ""
    if address.startswith("git+"):
        address = address.removeprefix("git+")
        head, joined, revision = address.rpartition("@")
        if joined and "/" not in revision and "://" in head:
            return Reference("git", head, revision, subfolder, line.editable)
        return Reference("git", address, "", subfolder, line.editable)
    if re.match(r"(hg|svn|bzr)\+", address):
        raise BadInput(
            f"{text!r} is under a version control that is not known here (git is)", place=line.evidence
        )
    hashes = _stated_hashes(line, fragment)
    if "://" in address and not address.startswith("file:"):
        return Reference("archive", address, "", subfolder, hashes=hashes)
    path = address.removeprefix("file://") if address.startswith("file:") else address
    path = re.sub(r"\[[\w,\s-]*\]$", "", path)
    return Reference("path", os.path.join(folder, path), "", subfolder, line.editable, hashes)


def _stated_hashes(line: RequirementLine, fragment: str) -> dict[str, frozenset[str]]:
    """The hashes that a list states for a direct reference: in the address's fragment (``#sha256=…``) and
    behind the requirement (``--hash=…``). Raises BadInput for one that is none."""
    results = {name: frozenset(values) for name, values in line.hashes.items()}
    for piece in fragment.split("&"):
        name, joined, value = piece.partition("=")
        if joined and name.lower() in ALGORITHMS:
            try:
                digest = Digest.of_hex(name, value)
            except ValueError as error:
                raise BadInput(
                    f"{line.reference}: {error}",
                    place=line.evidence,
                    remedy="Correct the digest behind #, or take it out.",
                ) from error
            results[digest.algorithm] = frozenset([digest.hex])
    return results
