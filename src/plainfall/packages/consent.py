"""What a clone's own configuration may use of the user's variables and logins: nothing, unless the user allows it
for a host.

A clone can name a registry. To put the person's variables into an address, or to say which login goes where, it
needs a word of the person (``--allow-registry HOST``, remembered for that clone), since whoever wrote the clone
chose both the variable and the host.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from msgspec import Struct

from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["VARIABLE", "Withheld", "expanded", "host_in", "withheld_words"]

VARIABLE = regex(r"\$\{([A-Za-z_][A-Za-z0-9_]*)\??\}")
_ADDRESS = regex(r"(?:\b\w[\w+.-]{0,30}:)?//(?:[^\s/@]*@)?([^\s/:@?#]+)")


class Withheld(Struct, frozen=True):
    """A line of the clone that wants something of the person for a host: ``names`` are the variables (none: it
    carries a login of its own)."""

    host: str
    names: tuple[str, ...]
    evidence: Evidence


def host_in(text: str) -> str:
    """The host of the first address in a text, in lower case; "" where there is none, or where it is made of
    variables itself."""
    match = _ADDRESS.search(text)
    host = match.group(1).lower() if match else ""
    return "" if "$" in host or "{" in host else host


def expanded(text: str, variables: Mapping[str, str]) -> str:
    """The text with its ``${NAME}`` replaced; an unset one becomes nothing."""
    return VARIABLE.sub(lambda match: variables.get(match.group(1), ""), text)


def withheld_words(withheld: Sequence[Withheld]) -> str:
    """What was not given, and how to give it, in words; "" for nothing."""
    if not withheld:
        return ""
    rows = []
    for host in sorted({one.host for one in withheld}):
        mine = [one for one in withheld if one.host == host]
        names = sorted({name for one in mine for name in one.names})
        what = f"your variable{'s' if len(names) > 1 else ''} {', '.join(names)}" if names else "a login"
        places = ", ".join(dict.fromkeys(str(one.evidence) for one in mine))
        rows.append(f"{places} wants to send {what} to {host}; allow it with --allow-registry {host}")
    return "; ".join(rows)
