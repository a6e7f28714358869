"""A picture of a page, by a browser of this machine that can work without a window."""

from __future__ import annotations

import shutil
import subprocess
from collections.abc import Mapping
from pathlib import Path

from plainfall.errors import ServerFailed
from plainfall.processes import run
from plainfall.server.browser import browser_profile, browser_words

__all__ = ["take_picture"]

_SIZE = "1280,800"
_LONGEST = 40.0


def take_picture(browser: str, url: str, file: Path, variables: Mapping[str, str]) -> int:
    """Writes a PNG of the page, 1280 by 800; returns its size in bytes. ``variables`` are the browser's. Raises
    ServerFailed if there is none."""
    with browser_profile(variables) as (profile, own):
        made = Path(profile, "page.png")
        words = [
            *browser_words(browser, profile),
            f"--window-size={_SIZE}",
            "--virtual-time-budget=4000",
            f"--screenshot={made}",
        ]
        try:
            done = run([*words, url], own, seconds=_LONGEST)
            text = done.errors.strip().splitlines()[-3:]
        except subprocess.TimeoutExpired:
            text = [f"it did not end within {_LONGEST:.0f} s"]
        if not made.is_file():
            raise ServerFailed(
                f"{browser} made no picture of {url}", lines=tuple(text), remedy="Look at the page yourself."
            )
        size = made.stat().st_size
        shutil.move(made, file)
        return size
