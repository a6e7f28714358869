"""A key on its way to a value, and what that value must agree with."""

from __future__ import annotations

import hashlib
from collections.abc import Collection, Sequence

from msgspec import Struct

from plainfall.clone.commands import GIVEN_FOLDER
from plainfall.evidence import Evidence
from plainfall.services.definitions import Definition
from plainfall.settings.listener_values import Listener
from plainfall.sources.values import Use

__all__ = ["Agreement", "Given", "Item", "fingerprint", "is_plain"]


class Given(Struct, frozen=True):
    """A value that somebody gave: ``origin`` is "given" (the person) or "team" (``plainfall.toml``)."""

    value: str
    origin: str
    place: Evidence


class Agreement(Struct, frozen=True):
    """What the settings of one part must agree with: service definitions, listeners of the clone, what
    frameworks it is made with, names that are the project's own; ``folder`` is one of the clone that stands for
    folders of a server, from the part's."""

    definitions: Sequence[Definition] = ()
    own: Listener | None = None
    others: Sequence[Listener] = ()
    frameworks: Collection[str] = ()
    own_prefixes: Collection[str] = ()
    folder: str = GIVEN_FOLDER


class Item(Struct, frozen=True):
    """A key on its way to a value: ``value`` is the template's, None if only code knows the key."""

    key: str
    value: str | None
    comment: str
    place: Evidence
    uses: tuple[Use, ...]

    @property
    def needed(self) -> bool:
        return any(use.needed for use in self.uses)

    @property
    def default(self) -> str | None:
        return next((use.default for use in self.uses if use.default not in (None, "")), None)

    @property
    def default_place(self) -> Evidence:
        """The line that gives the default."""
        return next((use.place for use in self.uses if use.default is not None), self.place)


def fingerprint(salt: str, value: str) -> str:
    """A short fingerprint that tells whether a value is still the one that was written, and not the value."""
    return hashlib.blake2b(value.encode(), key=salt.encode()[:64], digest_size=8).hexdigest()


def is_plain(default: str) -> bool:
    """Whether a default is a literal, and not the source text of something computed."""
    return not any(mark in default for mark in "()[]{}`\n") and "process.env" not in default
