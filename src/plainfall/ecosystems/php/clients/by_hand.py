"""The commands by which a person installs packages."""

from __future__ import annotations

from plainfall.ecosystems.shape import HandInstall

__all__ = ["php_by_hand"]


def php_by_hand(job: HandInstall) -> list[str]:
    """The package client, which also runs the clone's own scripts."""
    lines = [f"# PHP {job.version} first on the path"]
    if job.listed is not None and job.listed.kind != "held":
        verb = "install" if job.listed.path.endswith(".lock") else "update"
        lines.append(f"composer {verb} --no-interaction --quiet")
    return [*lines, 'PATH="$PWD/vendor/bin:$PATH"; export PATH']
