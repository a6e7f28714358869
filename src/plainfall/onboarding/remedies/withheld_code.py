"""A package that lacks what its own code makes at install, which was not allowed: on a terminal the person is
asked, once; else the remedy says so."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

from msgspec.structs import replace

from plainfall.kept_records import Installed
from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Advice, Change, Failure, Proposal
from plainfall.patterns import regex
from plainfall.server.logs import end_of_log
from plainfall.settings.setting import Consent

ORDER = 30
STAGES = frozenset({Stage.MIGRATIONS, Stage.SEEDS, Stage.TASKS, Stage.SERVER, Stage.PROBE})

# What a program says that lacks a part of a package that only the package's own code makes.
_LACKS_BUILD = regex(
    r"bindings|\.node\b|native (build|module|add-?on)|node-gyp|prebuil[dt]|has not been found installed|"
    r"for another platform|npm (install|rebuild)|extensions are not built|Could not find \S+ in (any of|locally)",
    re.IGNORECASE,
)


def propose(work: Work, failure: Failure) -> Iterator[Proposal]:
    """The packages that the output names, where it speaks of something that was to be built."""
    error = failure.error
    text = "\n".join([*error.lines, end_of_log(Path(error.log)) if error.log else ""])
    names = work.state.read(work.part.key, Installed).withheld
    meant = [one for one in names if _names(text, one)]
    if not meant or not _LACKS_BUILD.search(text):
        return
    shown = " and ".join(meant)
    words = " ".join(f"--allow-install-code {one}" for one in meant)
    yield Advice(
        f"{shown} wants to run code of its own at install, which nobody allowed yet. Allow it with: {words}"
    )
    why = "The server stops without what it makes. The answer counts for this clone, and is remembered."
    question = Consent(f"May {shown} run its own code while it is installed?", why)
    allowed = tuple(sorted({*work.decisions.install_code, *meant}))
    yield Change(
        f"{shown} ran its own code at install, as you allowed: {{result}}",
        replace(work.decisions, install_code=allowed),
        Stage.DEPENDENCIES,
        question=question,
    )


def _names(text: str, package: str) -> bool:
    name = re.escape(package)
    return re.search(rf"(?<![\w./-]|/){name}(?![\w-])|/{name}/|(?<![\w/-]){name}-\d", text) is not None
