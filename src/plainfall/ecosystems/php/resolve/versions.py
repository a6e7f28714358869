"""Versions and version constraints of PHP packages, as the ecosystem's schema and its semantic-version
library define them.

A version is kept in its normal form, four numbers and a stability (``1.2.0.0-beta3``), or as a branch
(``dev-main``; numeric ones are ``1.2.9999999.9999999-dev``). Versions are ordered as PHP's ``version_compare``
orders them; a branch is equal to itself alone.
"""

from __future__ import annotations

import functools
import re
from collections.abc import Callable, Sequence
from functools import lru_cache

from msgspec import Struct

from plainfall.errors import BadInput
from plainfall.patterns import regex

__all__ = [
    "Constraint",
    "admits",
    "compare",
    "constraint",
    "is_constraint",
    "normalized",
    "order",
    "stability",
    "stability_flag",
]

_MODIFIER = r"[._-]?(?:(stable|beta|b|rc|alpha|a|patch|pl|p)((?:[.-]?\d+(?:[.-]\d+)*)?)?)?([.-]?dev)?"
_END_OF_BRANCH = "9999999"
_NUMBERS = regex(rf"v?(\d{{1,5}})(\.\d+)?(\.\d+)?(\.\d+)?{_MODIFIER}", re.IGNORECASE)
_DATE = regex(rf"v?(\d{{4}}(?:[.:-]?\d{{2}}){{1,6}}(?:[.:-]?\d{{1,3}}){{0,2}}){_MODIFIER}", re.IGNORECASE)
_BRANCH = regex(r"v?(\d+)(\.(?:\d+|[xX*]))?(\.(?:\d+|[xX*]))?(\.(?:\d+|[xX*]))?", re.IGNORECASE)
_SHORT = {"a": "alpha", "b": "beta", "p": "patch", "pl": "patch", "rc": "RC"}
STABILITIES = ("stable", "RC", "beta", "alpha", "dev")
_WEIGHT = {"dev": 1, "alpha": 2, "a": 2, "beta": 3, "b": 3, "RC": 4, "rc": 4, "#": 5, "pl": 6, "p": 6}
_OPERATOR = regex(r"(<>|!=|>=?|<=?|==?)?\s*(.*)", re.DOTALL)
_WITH_MODIFIER = regex(rf"-{_MODIFIER}$", re.IGNORECASE)


@lru_cache(4096)
def normalized(version: str) -> str:
    """The normal form. Raises ValueError for what is no version."""
    text = version.strip()
    alias = re.match(r"^([^,\s]+) +as +([^,\s]+)$", text)
    text = alias.group(1) if alias else text
    text = re.sub(r"@(?:stable|rc|beta|alpha|dev)$", "", text, flags=re.IGNORECASE)
    if text in ("master", "trunk", "default"):
        text = f"dev-{text}"
    if text.lower().startswith("dev-"):
        return f"dev-{text[4:]}"
    text = re.sub(r"^([^,\s+]+)\+[^\s]+$", r"\1", text)  # build metadata
    match = _NUMBERS.fullmatch(text)
    if match:
        result = match.group(1) + "".join(match.group(place) or ".0" for place in (2, 3, 4))
        modifier = match.groups()[4:]
    else:
        match = _DATE.fullmatch(text)
        if match:
            result = re.sub(r"\D", ".", match.group(1))
            modifier = match.groups()[1:]
    if match:
        word, number, dev = modifier
        if word:
            if word.lower() == "stable":
                return result
            result += f"-{_SHORT.get(word.lower(), word.lower())}" + (number or "").lstrip(".-")
        return f"{result}-dev" if dev else result
    branch = re.fullmatch(r"(.*?)[.-]?dev", text, re.IGNORECASE)
    if branch:
        numeric = _numeric_branch(branch.group(1))
        if "dev-" not in numeric:
            return numeric
    raise ValueError(f"{version!r} is no version")


def _numeric_branch(name: str) -> str:
    match = _BRANCH.fullmatch(name.strip())
    if not match:
        return f"dev-{name.strip()}"
    pieces = [match.group(1)]
    for place in (2, 3, 4):
        piece = match.group(place)
        pieces.append(_END_OF_BRANCH if piece is None or piece[1:] in ("x", "X", "*") else piece[1:])
    return f"{'.'.join(pieces)}-dev"


def stability(version: str) -> str:
    """One of ``STABILITIES``, of a version in any form."""
    text = version.partition("#")[0].strip()
    if text.lower().startswith("dev-") or text.lower().endswith("-dev"):
        return "dev"
    match = re.search(rf"{_MODIFIER}(?:\+.*)?$", text.lower())
    word = match.group(1) if match else None
    if match and match.group(3):
        return "dev"
    return {"beta": "beta", "b": "beta", "alpha": "alpha", "a": "alpha", "rc": "RC"}.get(word or "", "stable")


def stability_flag(text: str) -> str:
    """The stability that a constraint's ``@`` asks for, "" for none."""
    match = re.search(r"@(stable|rc|beta|alpha|dev)\b", text, re.IGNORECASE)
    if not match:
        return ""
    word = match.group(1).lower()
    return "RC" if word == "rc" else word


@functools.lru_cache(20_000)
def _pieces(version: str) -> tuple[str, ...]:
    text = re.sub(r"[-_+]", ".", version)
    text = re.sub(r"(\d)([^\d.])", r"\1.\2", text)
    text = re.sub(r"([^\d.])(\d)", r"\1.\2", text)
    return tuple(text.split("."))


def _weight(piece: str) -> int:
    if piece[:1].isdigit():
        return _WEIGHT["#"]
    return next((weight for word, weight in _WEIGHT.items() if piece.startswith(word)), 0)


def compare(one: str, other: str) -> int:
    """-1, 0 or 1, as PHP's version_compare orders two versions."""
    mine, theirs = _pieces(one), _pieces(other)
    for first, second in zip(mine, theirs, strict=False):
        if first[:1].isdigit() and second[:1].isdigit():
            result = (int(first) > int(second)) - (int(first) < int(second))
        else:
            result = (_weight(first) > _weight(second)) - (_weight(first) < _weight(second))
        if result:
            return result
    longer = max(mine, theirs, key=len)
    if len(mine) == len(theirs):
        return 0
    # A number more is greater, a word more is what the word is against no word.
    rest = longer[min(len(mine), len(theirs))]
    sign = 1 if len(mine) > len(theirs) else -1
    if rest[:1].isdigit():
        return sign
    against = (_weight(rest) > _WEIGHT["#"]) - (_weight(rest) < _WEIGHT["#"])
    return sign * against


order: Callable[[str], object] = functools.cmp_to_key(compare)


class Constraint(Struct, frozen=True):
    """Alternatives, each a row of comparisons (operator, normal version) that all must hold; ``text`` as it was
    written. No row at all admits nothing, an empty row anything."""

    text: str
    rows: tuple[tuple[tuple[str, str], ...], ...]

    def admits(self, version: str) -> bool:
        """Whether a version in its normal form is admitted."""
        return any(all(_holds(version, *one) for one in row) for row in self.rows)


def _holds(version: str, operator: str, wanted: str) -> bool:
    branches = version.startswith("dev-"), wanted.startswith("dev-")
    if operator == "!=" and any(branches):
        return version != wanted
    if all(branches):
        return operator == "==" and version == wanted
    if any(branches):
        return False
    result = compare(version, wanted)
    return {
        "==": result == 0,
        "!=": result != 0,
        "<": result < 0,
        "<=": result <= 0,
        ">": result > 0,
        ">=": result >= 0,
    }[operator]


@functools.lru_cache(20_000)
def constraint(text: str) -> Constraint:
    """Reads a constraint. Raises ValueError for what is none."""
    plain = text.strip()
    alias = re.fullmatch(r"([^,\s]*) +as +([^,\s]+)", plain)
    plain = alias.group(1) if alias else plain
    plain = re.sub(r"#[0-9a-f]+$", "", plain, flags=re.IGNORECASE)
    rows = []
    for one in re.split(r"\|\|?", plain):
        row: list[tuple[str, str]] = []
        for piece in _anded(one.strip()):
            row += _comparisons(piece, text)
        rows.append(tuple(row))
    return Constraint(text, tuple(rows))


def _anded(text: str) -> list[str]:
    """The pieces that hold together: between commas and blanks, but for those around a hyphen range's hyphen and
    behind an operator."""
    text = re.sub(r"(<>|!=|>=?|<=?|==?|~|\^) ", r"\1", " ".join(text.split())).replace(" - ", "\0")
    return [piece.replace("\0", " - ") for piece in re.split(r"[,\s]+", text) if piece] or [text]


def _comparisons(piece: str, whole: str) -> list[tuple[str, str]]:
    flag = re.fullmatch(r"([^,\s]*?)@(stable|rc|beta|alpha|dev)", piece, re.IGNORECASE)
    modifier = ""
    if flag:
        piece = flag.group(1) or "*"
        modifier = "" if flag.group(2).lower() == "stable" else flag.group(2)
    piece = re.sub(r"^(dev-[^,\s@]+?|[^,\s@]+?\.x-dev)#.+$", r"\1", piece, flags=re.IGNORECASE)
    if re.fullmatch(r"(?:v?[x*](?:\.[x*])*)?", piece, re.IGNORECASE):
        return [(">=", "0.0.0.0-dev")] if re.match(r"v?[xX*]\.", piece) else []
    for reader in (_tilde, _caret, _wildcard, _hyphen):
        result = reader(piece)
        if result is not None:
            return result
    operator, version = _OPERATOR.fullmatch(piece).groups()  # type: ignore[union-attr]
    try:
        normal = normalized(version)
    except ValueError:
        if not re.fullmatch(r"[0-9a-zA-Z./-]+-dev", version):
            raise ValueError(f"{whole!r} is no version constraint") from None
        normal = normalized(f"dev-{version[:-4]}")
    sign = {None: "==", "": "==", "=": "==", "<>": "!="}.get(operator, operator)
    if modifier and sign != "==" and stability(normal) == "stable":
        normal += f"-{modifier}"
    elif sign in ("<", ">=") and not _has_modifier(version) and not version.startswith("dev-"):
        normal += "-dev"
    return [(sign, normal)]


def _has_modifier(version: str) -> bool:
    match = _WITH_MODIFIER.search(version.lower())
    return match is not None


_VERSION = rf"v?(\d+)(?:\.(\d+))?(?:\.(\d+))?(?:\.(\d+))?{_MODIFIER}"


def _raised(pieces: Sequence[str], place: int) -> str:
    """The next version at a place (1 to 4), lower ones zero, as an upper bound."""
    numbers = [int(piece or 0) for piece in pieces[:4]]
    numbers[place - 1] += 1
    return ".".join(map(str, [*numbers[:place], *[0] * (4 - place)])) + "-dev"


def _lower(text: str) -> str:
    """The version as a lower bound: of everything before a stable one, if it names no stability itself."""
    match = re.fullmatch(_VERSION, text, re.IGNORECASE)
    named = match is not None and (match.group(5) or match.group(7))
    return normalized(text) if named else f"{normalized(text)}-dev"


def _tilde(piece: str) -> list[tuple[str, str]] | None:
    match = re.fullmatch(rf"~>?{_VERSION}", piece, re.IGNORECASE)
    if not match:
        return None
    if piece.startswith("~>"):
        raise ValueError(f"{piece!r}: the operator is ~, without >")
    pieces = [one or "" for one in match.groups()[:4]]
    given = sum(1 for one in pieces if one)
    return [(">=", _lower(piece.lstrip("~>"))), ("<", _raised(pieces, max(1, given - 1)))]


def _caret(piece: str) -> list[tuple[str, str]] | None:
    match = re.fullmatch(rf"\^{_VERSION}", piece, re.IGNORECASE)
    if not match:
        return None
    pieces = [one or "" for one in match.groups()[:4]]
    if pieces[0] != "0" or not pieces[1]:
        place = 1
    elif pieces[1] != "0" or not pieces[2]:
        place = 2
    else:
        place = 3
    return [(">=", _lower(piece[1:])), ("<", _raised(pieces, place))]


def _wildcard(piece: str) -> list[tuple[str, str]] | None:
    match = re.fullmatch(r"v?(\d+)(?:\.(\d+))?(?:\.(\d+))?(?:\.[xX*])+", piece)
    if not match:
        return None
    pieces = [one or "" for one in (*match.groups(), None)]
    given = sum(1 for one in pieces if one)
    low = ".".join(one or "0" for one in pieces)
    upper = ("<", _raised(pieces, given))
    return [upper] if low == "0.0.0.0" else [(">=", f"{low}-dev"), upper]


def _hyphen(piece: str) -> list[tuple[str, str]] | None:
    match = re.fullmatch(rf"({_VERSION}) +- +({_VERSION})", piece, re.IGNORECASE)
    if not match:
        return None
    first, second = match.group(1), match.group(9)
    pieces = [one or "" for one in match.groups()[9:13]]
    if (pieces[1] and pieces[2]) or any(match.groups()[13:16]):
        upper = ("<=", normalized(second))
    else:
        upper = ("<", _raised(pieces, 2 if pieces[1] else 1))
    return [(">=", _lower(first)), upper]


def is_constraint(text: str) -> bool:
    """Whether a text is a constraint."""
    try:
        constraint(text)
    except ValueError:
        return False
    return True


def admits(text: str, version: str) -> bool:
    """Whether a constraint admits a version, in whatever form it is written. Raises BadInput for no constraint."""
    try:
        return constraint(text).admits(normalized(version))
    except ValueError as error:
        raise BadInput(str(error), remedy='Write one such as "^8.1" or ">=8.1 <8.4".') from error
