"""One setting, a file of them, and the questions that are left: the values that filling comes to."""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct

from plainfall.evidence import Evidence
from plainfall.formats.documents import Document
from plainfall.formats.values import is_secret
from plainfall.sources.values import Use

__all__ = ["ORIGINS", "Asker", "Consent", "Question", "Setting", "SettingsFile", "agrees"]

# Where a value came from, in the words that people see, in the order in which a summary counts them.
ORIGINS = {
    "template": "as in the template",
    "there already": "there already",
    "given": "given by you",
    "team": "from plainfall.toml",
    "asked": "answered by you",
    "generated": "generated",
    "matched": "matched to another place",
    "development value": "set for development",
    "code default": "default in the code",
    "optional": "optional",
    "open": "open",
}


class Setting(Struct, frozen=True):
    """One key: the file that it belongs to, its value, where that came from (a key of ``ORIGINS``), whether
    it is a secret, the place that the value stands on, every place that reads it, whether the program stops
    without it, and a note for people (never with a secret in it). ``written`` tells whether the key stands in
    the file."""

    key: str
    file: str
    value: str
    origin: str
    secret: bool
    evidence: Evidence
    uses: tuple[Use, ...] = ()
    needed: bool = False
    note: str = ""
    written: bool = True

    @property
    def needed_by(self) -> Evidence | None:
        """The first line that cannot do without it."""
        return next((use.place for use in self.uses if use.needed), None)

    def as_json(self) -> dict[str, object]:
        """The form that ``--json`` documents show; no secret, and no value that was not in the clone."""
        return {
            "key": self.key,
            "file": self.file,
            "origin": self.origin,
            "secret": self.secret,
            "needed": self.needed,
            "note": self.note,
            "evidence": [self.evidence.as_json()],
            "needed_by": self.needed_by.as_json() if self.needed_by else None,
            "read_by": [
                {
                    "evidence": [use.place.as_json()],
                    "default": None if self.secret or is_secret(self.key, use.default or "") else use.default,
                    "type": use.type,
                    "needed": use.needed,
                }
                for use in self.uses
            ],
        }


class SettingsFile(Struct, frozen=True):
    """A file that is to be made or completed: its path and kind, the template and the file's present text (None
    where there is none), whether Plainfall made it, and the origin and fingerprint that were recorded for
    each key when it was written. Where version control tracks the file that the code loads (``tracked``, at
    ``tracked_path``), that one is never written: ``target`` is a local file that goes over it, and ``current`` is
    what both come to."""

    target: str
    kind: str
    template_path: str
    template: Document | None
    current: Document | None
    ours: bool = False
    recorded: tuple[tuple[str, str, str], ...] = ()
    loaded: Evidence | None = None
    tracked: Document | None = None
    tracked_path: str = ""

    @property
    def paths(self) -> tuple[str, ...]:
        """The file's path, and that of the tracked one below it."""
        return (self.target, self.tracked_path) if self.tracked is not None else (self.target,)

    def recorded_origin(self, key: str, fingerprint: str) -> str | None:
        """Where a value came from when Plainfall wrote it; None if somebody changed it since."""
        return next(
            (origin for name, origin, known in self.recorded if name == key and known == fingerprint), None
        )


class Question(Struct, frozen=True):
    """Asked of a person: the key, why it is asked (the template's comment), who reads it, whether the program
    stops without it, and a value that would do ("" for none)."""

    key: str
    why: str
    uses: tuple[Use, ...]
    needed: bool
    proposed: str = ""


class Consent(Struct, frozen=True):
    """Asked of a person before something is done that only they may decide on: a question that yes or no
    answers, and why it is asked. It is no settings question: nothing is proposed, and no answer is a no."""

    what: str
    why: str


Asker = Callable[[Question | Consent], str | None]


def agrees(ask: Asker | None, consent: Consent) -> bool:
    """Whether the person says yes; nobody who could be asked is a no."""
    return ask is not None and (ask(consent) or "").strip().lower() in ("y", "yes")
