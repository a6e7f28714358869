"""Options that only some languages honour: given where no part is of such a language, they are refused by name."""

from __future__ import annotations

from collections.abc import Sequence

from plainfall.clone.parts import PartFound
from plainfall.ecosystems import language_named, languages
from plainfall.ecosystems.shape import InstallWishes
from plainfall.errors import UsageProblem

__all__ = ["check_honoured"]

# The fields of the wishes, and the options that people type.
_OPTIONS = {
    "extras": "--extra",
    "groups": "--group",
    "instead": "--instead",
    "as_of": "--as-of",
    "from_imports": "--from-imports",
    "with_client": "--with-pip",
    "keep_lock": "--keep-lock",
}


def check_honoured(wishes: InstallWishes, parts: Sequence[PartFound]) -> None:
    """Raises UsageProblem for an option that none of the parts' languages honours."""
    here = [
        one for one in (language_named(part.language) for part in parts) if one is not None and one.onboarded
    ]
    for name, option in _OPTIONS.items():
        if not getattr(wishes, name) or not here or any(name in one.honours for one in here):
            continue
        titles = ", ".join(dict.fromkeys(one.title for one in here))
        those = ", ".join(one.title for one in languages() if name in one.honours)
        raise UsageProblem(
            f"{option} does nothing here: the parts are of {titles}, and it is for {those}",
            remedy=f"Leave {option} out.",
        )
