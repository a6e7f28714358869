"""The commands by which a person installs packages."""

from __future__ import annotations

import shlex

from plainfall.ecosystems.shape import HandInstall

__all__ = ["node_by_hand"]

_CLIENTS = {
    "package-lock.json": "npm ci", "npm-shrinkwrap.json": "npm ci", "yarn.lock": "yarn install --frozen-lockfile",
    "pnpm-lock.yaml": "pnpm install --frozen-lockfile",
}  # fmt: skip


def node_by_hand(job: HandInstall) -> list[str]:
    """The client that the lock belongs to, without the packages' own code, but for that which was allowed."""
    lines = [f"# Node {job.version} first on the path"]
    listed = job.listed
    if listed is not None and listed.kind != "workspace":
        client = _CLIENTS.get(listed.path.rpartition("/")[2], "npm install --no-package-lock")
        quiet = " --no-audit --no-fund --loglevel=error" if client.startswith("npm") else ""
        lines.append(f"{client} --ignore-scripts{quiet}")
        if job.allowed:
            lines.append(f"npm rebuild {shlex.join(job.allowed)}")
    return [*lines, 'PATH="$PWD/node_modules/.bin:$PATH"; export PATH']
