"""Names that are nearly the same: a key that the code reads, and one of the template that nobody reads."""

from __future__ import annotations

import re
from collections.abc import Collection

from plainfall.ecosystems.frameworks import every_traits
from plainfall.patterns import regex

__all__ = ["nearest"]

_SAME = {
    "DB": "DATABASE",
    "PG": "POSTGRES",
    "POSTGRESQL": "POSTGRES",
    "MONGODB": "MONGO",
    "PWD": "PASSWORD",
    "PASS": "PASSWORD",
    "PASSWD": "PASSWORD",
    "USR": "USER",
    "USERNAME": "USER",
    "URI": "URL",
    "DSN": "URL",
    "ADDR": "ADDRESS",
    "HOSTNAME": "HOST",
    "APIKEY": "API KEY",
    "ENVIRONMENT": "ENV",
    "DEV": "DEVELOPMENT",
    "PROD": "PRODUCTION",
    "DIRECTORY": "DIR",
    "FOLDER": "DIR",
    "SECS": "SECONDS",
    "MSG": "MESSAGE",
    "MAIL": "EMAIL",
    "REGION_NAME": "REGION",
    "HOSTS": "HOST",
    "ORIGINS": "ORIGIN",
    "TIME": "TIMEOUT",
    "INTERVAL": "PERIOD",
}
_PREFIXES = regex(
    "^(" + "|".join([one for it in every_traits() for one in (*it.client_prefixes, *it.prefixes)]) + "|APP_)"
)


def nearest(name: str, others: Collection[str]) -> str | None:
    """The name among ``others`` that means the same, or differs by a typing error; None if there is none, or
    several are equally similar."""
    ranked = sorted((_distance(name, other), other) for other in others if other != name)
    if not ranked or ranked[0][0] >= 9:
        return None
    if len(ranked) > 1 and ranked[1][0] == ranked[0][0]:
        return None
    return ranked[0][1]


def _words(name: str) -> tuple[str, ...]:
    spaced = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", name).upper()
    return tuple(
        word for piece in re.split(r"[_.-]+", spaced) if piece for word in _SAME.get(piece, piece).split()
    )


def _distance(name: str, other: str) -> int:
    """0: the same words; 1: but for a prefix; 2: other order; 3 to 4: one or two letters; 9: not near."""
    mine, theirs = _words(name), _words(other)
    if mine == theirs:
        return 0
    if _words(_PREFIXES.sub("", name)) == _words(_PREFIXES.sub("", other)):
        return 1
    if sorted(mine) == sorted(theirs):
        return 2
    if "".join(mine) == "".join(theirs):
        return 2
    joined, other_joined = "_".join(mine), "_".join(theirs)
    if min(len(joined), len(other_joined)) >= 8 and joined[0] == other_joined[0]:
        apart = _edits(joined, other_joined, 2)
        # Numbered keys (ONE_1, ONE_2) differ by a letter and mean it.
        if apart <= 2 and re.sub(r"\d", "", joined) != re.sub(r"\d", "", other_joined):
            return 2 + apart
    return 9


def _edits(one: str, other: str, most: int) -> int:
    """How many letters must be put in, taken out or changed; more than ``most`` counts as ``most + 1``."""
    if abs(len(one) - len(other)) > most:
        return most + 1
    row = list(range(len(other) + 1))
    for i, letter in enumerate(one, 1):
        before, row[0] = row[0], i
        for j, wanted in enumerate(other, 1):
            before, row[j] = row[j], min(row[j] + 1, row[j - 1] + 1, before + (letter != wanted))
    return min(row[-1], most + 1)
