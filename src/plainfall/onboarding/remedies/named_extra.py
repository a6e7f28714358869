"""An extra of the project itself that its own program asks for ("install it with: pip install gauges[web]")."""

from __future__ import annotations

import re
from collections.abc import Iterator

from msgspec.structs import replace

from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Change, Failure
from plainfall.patterns import regex

ORDER = 39
STAGES = frozenset({Stage.MIGRATIONS, Stage.SEEDS, Stage.TASKS, Stage.SERVER, Stage.PROBE})

_NAMED = regex(r"(?<![\w.-])([A-Za-z][\w.-]*)\[([\w.,-]+)\]")


def propose(work: Work, failure: Failure) -> Iterator[Change]:
    """The extras that the output names in brackets behind the project's name, if its list offers them."""
    listed = work.part.dependencies
    if listed is None:
        return
    known = work.choices.packages.extras
    own = {_plain(name) for name in (work.clone.name, work.part.path.rpartition("/")[2], *_programs(work))}
    for line in failure.error.lines:
        for name, words in _NAMED.findall(line):
            extras = [one for one in words.split(",") if one in listed.offered[0] and one not in known]
            is_own = _plain(name) in own or "install" in line
            if extras and is_own:
                yield Change(
                    f"its output asks for {name}[{words}]: {' and '.join(extras)} was installed, too: {{result}}",
                    replace(work.decisions, extras=(*work.decisions.extras, *extras)),
                    Stage.DEPENDENCIES,
                )
                return


def _programs(work: Work) -> frozenset[str]:
    recognising = work.language.recognising
    return recognising.programs(work.tree, work.part.path) if recognising is not None else frozenset()


def _plain(name: str) -> str:
    return re.sub(r"[-_.]+", "-", name).lower()
