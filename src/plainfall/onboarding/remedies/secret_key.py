"""A key for an application that signs sessions and has none, and other secrets of its own: a developer would set
any."""

from __future__ import annotations

import re
from collections.abc import Iterator

from msgspec.structs import replace

from plainfall.failure_kinds import FailureKind
from plainfall.formats.values import Kind, is_secret, kind_of
from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Change, Failure
from plainfall.patterns import regex

ORDER = 20
STAGES = frozenset({Stage.MIGRATIONS, Stage.SEEDS, Stage.TASKS, Stage.SERVER, Stage.PROBE})

_NAME = regex(r"\b[A-Z][A-Z0-9]*(?:_[A-Z0-9]+)+\b")
_LINES = 4  # of the lines that matter, from the end


def propose(work: Work, failure: Failure) -> Iterator[Change]:
    """One under the names that frameworks read by themselves; a secret of the project's own that the output names
    and that its sources read."""
    decisions = work.decisions
    stage = Stage.SERVER if failure.stage is Stage.PROBE else failure.stage
    if failure.error.rule == FailureKind.SECRET_KEY and not decisions.secret_key:
        words = "the application has no secret key: it got one, as SECRET_KEY and FLASK_SECRET_KEY"
        yield Change(words, replace(decisions, secret_key=True), stage)
    for name in _wanted(work, failure):
        words = f"the application asks for {name}, a secret of its own: it got one"
        yield Change(words, replace(decisions, own_secrets=(*decisions.own_secrets, name)), stage)
        return


def _wanted(work: Work, failure: Failure) -> Iterator[str]:
    """Names of secrets that have no value, in the last lines of the output."""
    own = {
        word.upper() for word in re.split(r"[\W_]+", f"{work.clone.name} {work.part.path}") if len(word) > 2
    }
    read = {one.key: one for one in work.settings_shown}
    for name in dict.fromkeys(_NAME.findall("\n".join(failure.error.lines[-_LINES:]))):
        if name not in read or read[name].value or name in work.decisions.own_secrets or not is_secret(name):
            continue
        # One that begins with the project's own name is no account with somebody else.
        if name.split("_")[0] in own or kind_of(name, "", "", read[name].uses) is Kind.GENERATE:
            yield name
