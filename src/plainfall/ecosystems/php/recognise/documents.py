"""The folder that a PHP part serves, and the page in it that answers first."""

from __future__ import annotations

import shlex

from plainfall.clone.walk import Tree
from plainfall.ecosystems.shared.programs import names_place
from plainfall.errors import BadInput

__all__ = ["ROOTS", "front_file", "router_command"]

ROOTS = ("public", "web", "htdocs", "public_html", "www", "html", "webroot", "docroot", "")
_PAGES = ("index.php", "index.phtml")


def front_file(tree: Tree, folder: str) -> str:
    """The page that answers first, relative to the part; "" where there is none."""
    place = f"{folder}/" if folder else ""
    for root in ROOTS:
        for name in _PAGES:
            path = f"{root}/{name}" if root else name
            if place + path in tree and _is_page(tree, place + path):
                return path
    return ""


def _is_page(tree: Tree, path: str) -> bool:
    """Whether a file is more than a guard against listing a folder."""
    try:
        text = tree.text(path)
    except BadInput:
        return True  # nobody knows what it does
    lines = [line.strip() for line in text.splitlines() if line.strip()]
    return len("".join(lines)) > 40 and "<?" in text


def router_command(folder: str, root: str) -> str:
    """The command line that serves a folder of a part, with addresses that are no files leading to its first
    page."""
    up = "../" * (folder.count("/") + 1) if folder else ""
    return (
        f"php -S 127.0.0.1:${{PORT:-8000}} -t {shlex.quote(root or '.')} {up}{names_place(folder)}/router.php"
    )
