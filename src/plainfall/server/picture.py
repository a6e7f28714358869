"""A picture of a page, by a browser of this machine that can work without a window."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
from collections.abc import Mapping
from pathlib import Path

from plainfall.errors import ServerFailed
from plainfall.processes import run

__all__ = ["browser_here", "take_picture"]

_NAMES = (
    "chromium",
    "chromium-browser",
    "google-chrome",
    "google-chrome-stable",
    "chrome",
    "microsoft-edge",
    "brave-browser",
)
_SIZE = "1280,800"
_LONGEST = 40.0


def browser_here(path: str) -> str | None:
    """The first of Chromium's usual names on a search path, None if there is none."""
    return next((result for name in _NAMES if (result := shutil.which(name, path=path))), None)


def take_picture(browser: str, url: str, file: Path, variables: Mapping[str, str]) -> int:
    """Writes a PNG of the page, 1280 by 800; returns its size in bytes. ``variables`` are the browser's. Raises
    ServerFailed if there is none."""
    with tempfile.TemporaryDirectory(prefix="plainfall-browser-") as profile:
        made = Path(profile, "page.png")
        words = [
            browser,
            "--headless",
            "--disable-gpu",
            "--hide-scrollbars",
            "--ignore-certificate-errors",
            "--no-first-run",
            f"--user-data-dir={profile}",
            f"--window-size={_SIZE}",
            "--virtual-time-budget=4000",
            f"--screenshot={made}",
        ]
        # The browser's own fence does not work for root; what is shown is this machine's own server.
        words += ["--no-sandbox"] if os.getuid() == 0 else []
        try:
            done = run([*words, url], variables, seconds=_LONGEST)
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
