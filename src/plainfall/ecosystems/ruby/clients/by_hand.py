"""The commands by which a person installs packages."""

from __future__ import annotations

from plainfall.ecosystems.shape import HandInstall

__all__ = ["ruby_by_hand"]


def ruby_by_hand(job: HandInstall) -> list[str]:
    """The package client, into a folder of the clone."""
    lines = [f"# Ruby {job.version} first on the path"]
    if job.listed is not None:
        lines += ['BUNDLE_PATH="$PWD/vendor/bundle"; export BUNDLE_PATH', "bundle install --quiet"]
    return lines
