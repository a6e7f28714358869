"""WordPress: pages at the top, settings in one PHP file, the rest by a form of its own."""

from __future__ import annotations

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import RANK, Form, FrameworkFound, SecretForm, Traits
from plainfall.clone.walk import Tree
from plainfall.ecosystems.php.recognise.documents import router_command
from plainfall.evidence import Evidence

__all__ = ["TRAITS", "recognise"]

ORDER = 3

_KEYS = tuple(
    f"{start}{end}" for start in ("AUTH", "SECURE_AUTH", "LOGGED_IN", "NONCE") for end in ("_KEY", "_SALT")
)
TRAITS = Traits(
    ("WordPress",),
    secrets=(
        SecretForm(_KEYS, Form("safe", 64, "", "WordPress")),
        SecretForm(("DB_PASSWORD",), Form("safe", 24)),
    ),
    values={"DB_NAME": "wordpress", "DB_USER": "wordpress"},
    left_behind=("/wp-content/upgrade/",),
    uploads=("/wp-content/uploads/",),
    services=("mysql",),
)


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part with the program's own files."""
    place = f"{folder}/" if folder else ""
    path = f"{place}wp-load.php"
    if path not in tree or f"{place}wp-settings.php" not in tree:
        return None
    line = router_command(folder, "")
    why = "the runtime's own server"
    server = Command("server", line, why, RANK, Evidence(path, 1), folder)
    return FrameworkFound("WordPress", Evidence(path, 1), (server,), pages=("/",))
