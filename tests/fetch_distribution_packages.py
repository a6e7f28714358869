"""Fetches real PHP or Ruby packages for the tests marked real: ``python tests/fetch_distribution_packages.py KIND FOLDER``.

They are the distribution's own packages of the frameworks and of all that these need, by the distribution's ordinary
client, unpacked into FOLDER/NAME; ``needs.json`` says which each of the frameworks' packages leads to.
"""

from __future__ import annotations

import json
import re
import subprocess
import sys
from pathlib import Path

ROOTS = {
    "php": ("php-slim", "php-symfony-framework-bundle", "php-symfony-twig-bundle", "php-symfony-runtime",
            "php-symfony-dotenv", "php-symfony-yaml", "php-symfony-console", "php-laravel-framework"),
    "ruby": ("ruby-sinatra", "ruby-sequel", "ruby-sqlite3", "ruby-pg", "puma", "ruby-rails", "jekyll", "ruby-webrick"),
}  # fmt: skip
NAMES = {"php": r"php-[\w.+-]+", "ruby": r"(?:ruby-[\w.+-]+|puma|rake|jekyll|thor|racc|libruby\d[\d.]*)"}
# The runtime itself and its extensions: they are installed, or asked of the machine.
_OF_RUNTIME = re.compile(
    r"php(\d|-(cli|common|fpm|cgi|phpdbg|json|mbstring|xml|intl|curl|zip|mysql|sqlite3|gmp|gd|apcu|redis|imagick|"
    r"memcached|igbinary|msgpack|uuid|amqp|bcmath|pgsql|ldap)$)|ruby-(dev|bundler|rubygems|minitest-reporters)$"
)


def needed(root: str, names: str) -> list[str]:
    """All packages that one leads to, itself first."""
    words = [
        "apt-cache",
        "depends",
        "--recurse",
        "--no-recommends",
        "--no-suggests",
        "--no-conflicts",
        "--no-breaks",
    ]
    words += ["--no-replaces", "--no-enhances", "--important", root]
    text = subprocess.run(words, capture_output=True, text=True, check=True).stdout
    found = re.findall(rf"^(?:\s+\|?Depends: )?({names})$", text, re.MULTILINE)
    return [name for name in dict.fromkeys([root, *found]) if not _OF_RUNTIME.match(name)]


def main() -> None:
    kind, folder = sys.argv[1], Path(sys.argv[2])
    folder.mkdir(parents=True, exist_ok=True)
    needs = {root: needed(root, NAMES[kind]) for root in ROOTS[kind]}
    every = sorted({name for names in needs.values() for name in names})
    lacking = [name for name in every if not (folder / name).is_dir()]
    archives = folder / "archives"
    archives.mkdir(exist_ok=True)
    if lacking:
        subprocess.run(["apt-get", "download", "-qq", *lacking], cwd=archives, check=True)
    for archive in sorted(archives.glob("*.deb")):
        name = archive.name.partition("_")[0]
        subprocess.run(["dpkg-deb", "-x", str(archive), str(folder / name)], check=True)
        archive.unlink()
    (folder / "needs.json").write_text(json.dumps(needs, indent=1))
    print(f"{len(every)} packages in {folder}")


if __name__ == "__main__":
    main()
