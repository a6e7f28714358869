"""Fetches real PHP packages for the tests marked real: ``python tests/fetch_php_packages.py FOLDER``.

They are the distribution's own packages of the frameworks and of all that these need, by the distribution's ordinary
client, unpacked into FOLDER/NAME; ``needs.json`` says which each of the frameworks' packages leads to.
"""

from __future__ import annotations

import json
import re
import subprocess
import sys
from pathlib import Path

ROOTS = ("php-slim", "php-symfony-framework-bundle", "php-symfony-twig-bundle", "php-symfony-runtime", "php-symfony-dotenv",
         "php-symfony-yaml", "php-symfony-console", "php-laravel-framework")  # fmt: skip
# The runtime itself and its extensions: they are installed, or asked of the machine.
_OF_RUNTIME = re.compile(r"php(\d|-(cli|common|fpm|cgi|phpdbg|json|mbstring|xml|intl|curl|zip|mysql|sqlite3|gmp|gd|apcu|"
                         r"redis|imagick|memcached|igbinary|msgpack|uuid|amqp|bcmath|pgsql|ldap)$)")  # fmt: skip


def needed(root: str) -> list[str]:
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
    names = re.findall(r"^(?:\s+\|?Depends: )?(php-[\w.+-]+)$", text, re.MULTILINE)
    return [name for name in dict.fromkeys([root, *names]) if not _OF_RUNTIME.match(name)]


def main() -> None:
    folder = Path(sys.argv[1])
    folder.mkdir(parents=True, exist_ok=True)
    needs = {root: needed(root) for root in ROOTS}
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
