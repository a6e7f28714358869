"""What a clone asks of its runtime's version, and how strongly."""

from __future__ import annotations

from enum import IntEnum

from msgspec import Struct

from plainfall.evidence import Evidence

__all__ = ["Strength", "VersionAsk"]


class Strength(IntEnum):
    """How much weight an ask has; a stronger one wins where two cannot both hold."""

    HINT = 1
    PREFERENCE = 2
    RANGE = 3
    PIN = 4


class VersionAsk(Struct, frozen=True):
    """One place that asks for a version.

    ``text`` is the text of the line; ``specifier`` the same in the ecosystem's range grammar; ``source``
    names the kind of place in a few words, for people.
    """

    text: str
    specifier: str
    strength: Strength
    source: str
    evidence: Evidence
