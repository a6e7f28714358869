"""No framework, or a small one: a page that answers first, at the top or in the folder that is served."""

from __future__ import annotations

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import FrameworkFound
from plainfall.clone.walk import Tree
from plainfall.ecosystems.php.recognise.documents import (
    first_address,
    front_file,
    router_command,
    served_folder,
)
from plainfall.evidence import Evidence

__all__ = ["recognise"]

ORDER = 50
ALONE = True
_RANK = 50


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part with such a page."""
    front = front_file(tree, folder)
    if not front:
        return None
    place = Evidence(f"{folder}/{front}" if folder else front, 1)
    line = router_command(folder, served_folder(front))
    why = f"the runtime's own server, for {front}"
    return FrameworkFound(
        "PHP pages",
        place,
        (Command("server", line, why, _RANK, place, folder),),
        pages=(first_address(front),),
    )
