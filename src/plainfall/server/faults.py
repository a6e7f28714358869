"""What is wrong with a page, where programs go by it."""

from __future__ import annotations

__all__ = ["ENDLESS", "MISSING_FILES", "NO_ANSWER", "PARTLY"]

ENDLESS = "endless"
MISSING_FILES = "missing files"
NO_ANSWER = "no answer"
PARTLY = "missing files, and the page works"
