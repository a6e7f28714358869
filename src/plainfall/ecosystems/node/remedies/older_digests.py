"""The runtime's own option for build tools that use a digest which newer ones keep behind it."""

from __future__ import annotations

from collections.abc import Iterator

from plainfall.ecosystems.shape.remedies import LanguageChange, Trouble
from plainfall.failure_kinds import FailureKind

KINDS = frozenset({FailureKind.OPENSSL_LEGACY})
_OPTION = "--openssl-legacy-provider"


def propose(trouble: Trouble) -> Iterator[LanguageChange]:
    """The option beside those that the part has; Node 17 is the first that knows it."""
    had = trouble.variables.get("NODE_OPTIONS", "")
    major = trouble.runtime.partition(".")[0]
    if _OPTION in had or not major.isdigit() or int(major) < 17:
        return
    yield LanguageChange(
        f"a build tool uses a digest that Node {major} keeps behind an option: it runs with NODE_OPTIONS={_OPTION}",
        variables={"NODE_OPTIONS": f"{had} {_OPTION}".strip()},
    )
