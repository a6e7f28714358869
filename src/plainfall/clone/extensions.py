"""Whether a runtime has the optional pieces that a clone asks for."""

from __future__ import annotations

from collections.abc import Sequence

from plainfall.clone.parts import Extension
from plainfall.runtimes.interpreters import Interpreter

__all__ = ["without_words"]


def without_words(extensions: Sequence[Extension], interpreter: Interpreter) -> str | None:
    """Why a runtime cannot serve for want of an extension, and what brings it; None if it has all."""
    lacking = next((one for one in extensions if not interpreter.facts.get(one.fact, True)), None)
    if lacking is None:
        return None
    brings = f"; the system package {lacking.system_package} brings it" if lacking.system_package else ""
    return f"it was built without {lacking.name}, which {lacking.evidence} imports{brings}"
