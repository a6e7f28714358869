"""A settings file that the program asks for by name, made of its sample in the clone."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from pathlib import Path

from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Change, Deed, Failure
from plainfall.patterns import regex
from plainfall.server.logs import end_of_log

ORDER = 12
STAGES = frozenset({Stage.MIGRATIONS, Stage.SEEDS, Stage.TASKS, Stage.SERVER, Stage.PROBE})

_NAMED = regex(
    r"(?<![\w.-])([\w-]{1,60}(?:\.[\w-]{1,30}){0,3}\.(?:conf|cfg|ini|toml|ya?ml|json|env|properties|php|py))\b"
)
_SAMPLE = r"(?:[._-](?:example|sample|dist|template|default)s?)"


def propose(work: Work, failure: Failure) -> Iterator[Change]:
    """The first of the files that the output names, which is not there, and whose sample lies in the part."""
    error = failure.error
    output = "\n".join([*error.lines, end_of_log(Path(error.log)) if error.log else ""])
    for name in dict.fromkeys(_NAMED.findall(output)):
        stem, _, ending = name.rpartition(".")
        sample = re.compile(
            rf"(?:{re.escape(name)}{_SAMPLE}|{re.escape(stem)}{_SAMPLE}\.{re.escape(ending)})", re.IGNORECASE
        )
        for path in work.tree.below(work.part.path):
            folder, _, last = path.rpartition("/")
            place = "/".join(filter(None, (work.part.path, folder)))
            if sample.fullmatch(last) and not os.path.lexists(work.folder / folder / name):
                target = f"{place}/{name}" if place else name
                source = f"{place}/{last}" if place else last
                words = f"{name} was missing, which the program asks for: it was made of {source}"
                stage = Stage.SERVER if failure.stage is Stage.PROBE else failure.stage
                yield Change(words, work.decisions, stage, Deed("copy file", target, source))
                return
