"""Fetches the packages of the real Node clones into a folder, by name, with the runtime's own client.

``python tests/fetch_node_packages.py FOLDER``: for each clone its wishes are pinned by the client, then every
pinned package is packed into ``FOLDER/NAME/VERSION.tgz``. What is there already is not fetched again.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tarfile
import tempfile
from pathlib import Path
from urllib.parse import quote

from real_node_clones import CLONES

__all__ = ["main"]


def _pinned(manifest: str) -> set[tuple[str, str]]:
    with tempfile.TemporaryDirectory() as made:
        (Path(made) / "package.json").write_text(manifest)
        words = [
            "npm",
            "install",
            "--package-lock-only",
            "--ignore-scripts",
            "--no-audit",
            "--no-fund",
            "--silent",
        ]
        subprocess.run(words, cwd=made, check=True)
        packages = json.loads((Path(made) / "package-lock.json").read_text())["packages"]
    return {
        (entry.get("name") or place.rpartition("node_modules/")[2], entry["version"])
        for place, entry in packages.items()
        if place
    }


def main(folder: Path) -> None:
    """Fetches what is lacking."""
    wanted = sorted({pin for files in CLONES.values() for pin in _pinned(files["package.json"])})
    lacking = [pin for pin in wanted if not _place(folder, *pin).is_file()]
    with tempfile.TemporaryDirectory() as made:
        for start in range(0, len(lacking), 40):
            specs = [f"{name}@{version}" for name, version in lacking[start : start + 40]]
            words = ["npm", "pack", *specs, "--pack-destination", made, "--silent", "--ignore-scripts"]
            subprocess.run(words, cwd=made, check=True, stdout=subprocess.DEVNULL)
        for archive in Path(made).glob("*.tgz"):
            with tarfile.open(archive) as opened:
                name = next(n for n in opened.getnames() if n.count("/") == 1 and n.endswith("/package.json"))
                member = opened.extractfile(name)
                assert member is not None
                manifest = json.load(member)
            place = _place(folder, manifest["name"], manifest["version"])
            place.parent.mkdir(parents=True, exist_ok=True)
            place.write_bytes(archive.read_bytes())
    print(f"{len(wanted)} packages, {len(lacking)} of them fetched now")


def _place(folder: Path, name: str, version: str) -> Path:
    return folder / quote(name, safe="") / f"{version}.tgz"


if __name__ == "__main__":
    main(Path(sys.argv[1]))
