"""The folder that a PHP part serves, and the page in it that answers first."""

from __future__ import annotations

import re
import shlex

from plainfall.clone.walk import Tree, is_side
from plainfall.ecosystems.php.lists.manifests import MANIFEST, manifest
from plainfall.ecosystems.shared.programs import names_place
from plainfall.errors import BadInput
from plainfall.patterns import regex

__all__ = ["ROOTS", "first_address", "front_file", "router_command", "served_folder"]

ROOTS = ("public", "web", "htdocs", "public_html", "www", "html", "webroot", "docroot", "")
_PAGES = ("index.php", "index.phtml")
# A page of plain HTML that leads to one of PHP.
_LEADS_TO_PHP = regex(r"(?:url|href|location)\s*=\s*[\"']?[\w./-]{1,80}\.php\b", re.IGNORECASE)
_DEEPEST = 2  # folders above such a page


def front_file(tree: Tree, folder: str) -> str:
    """The page that answers first, relative to the part; "" where there is none."""
    place = f"{folder}/" if folder else ""
    for root in ROOTS:
        for name in _PAGES:
            path = f"{root}/{name}" if root else name
            if _is_page(tree, place + path):
                return path
    if _leads_to_php(tree, place + "index.html"):
        return "index.html"
    return _page_of_a_folder(tree, folder) if place + MANIFEST in tree else ""


def _page_of_a_folder(tree: Tree, folder: str) -> str:
    """The first page of the only folder in a part that has one, or of the one that has the package's name; relative
    to the part. "" where there is none."""
    place = f"{folder}/" if folder else ""
    names = {path.removesuffix("/index.php") for path in tree.below(folder) if path.count("/") == 1}
    names = {name for name in names if not is_side(name) and _is_page(tree, f"{place}{name}/index.php")}
    if len(names) > 1:
        try:
            names &= {str(manifest(tree, folder).get("name")).rpartition("/")[2]}
        except BadInput:
            return ""  # reported by the step that installs from it
    return f"{names.pop()}/index.php" if names else ""


def _leads_to_php(tree: Tree, path: str) -> bool:
    """Whether a page near the top does. Deeper ones are documents, often thousands of them, and are not read."""
    if path.count("/") > _DEEPEST or is_side(path):
        return False
    try:
        return path in tree and _LEADS_TO_PHP.search(tree.text(path)) is not None
    except BadInput:
        return False  # in another coding than the one in which addresses are looked for


def _is_page(tree: Tree, path: str) -> bool:
    """Whether there is such a file, and more than a guard against listing a folder."""
    if path not in tree:
        return False
    try:
        text = tree.text(path)
    except BadInput:
        return True  # nobody knows what it does
    lines = [line.strip() for line in text.splitlines() if line.strip()]
    return len("".join(lines)) > 40 and "<?" in text


def served_folder(front: str) -> str:
    """The folder that is served for a first page, relative to the part: that of the page, where it has a name for
    that, else the part itself, since the page may lead to what lies beside its folder.

    >>> served_folder("public/index.php"), served_folder("gauges/index.php")
    ('public', '')
    """
    folder = front.rpartition("/")[0]
    return folder if folder in ROOTS else ""


def first_address(front: str) -> str:
    """The address of a first page in the folder that is served for it.

    >>> first_address("public/index.php"), first_address("gauges/index.php")
    ('/', '/gauges/')
    """
    folder = front.rpartition("/")[0]
    return "/" if folder in ROOTS else f"/{folder}/"


def router_command(folder: str, root: str) -> str:
    """The command line that serves a folder of a part, with addresses that are no files leading to its first
    page."""
    up = "../" * (folder.count("/") + 1) if folder else ""
    return (
        f"php -S 127.0.0.1:${{PORT:-8000}} -t {shlex.quote(root or '.')} {up}{names_place(folder)}/router.php"
    )
