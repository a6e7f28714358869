"""First accounts of Ruby applications: those that known packages make, and those that the clone's seeds make."""

from __future__ import annotations

import re

from plainfall.clone.frameworks import ADMIN_ADDRESS, Administrator, SeededAccount
from plainfall.clone.walk import Tree
from plainfall.ecosystems.shared.version_files import within
from plainfall.errors import BadInput
from plainfall.evidence import Evidence

__all__ = ["administrator", "seeded_account"]

# The package, the task that makes one, and what it says where there is one already. All take their values from the
# same two variables.
_KNOWN = (
    ("spree_auth_devise", "spree_auth:admin:create", "has already been created"),
    ("solidus_auth_devise", "solidus_auth:admin:create", "has already been created"),
)
# One thing that is made in the seeds, to the end of its arguments.
_MADE = re.compile(
    r"\b([A-Z][\w:]*)\.(?:create!?|find_or_create_by!?|create_or_find_by!?|create_with|new)\b", re.MULTILINE
)
_NAME = re.compile(
    r"\b(?:email|email_address|login|username|user_name)['\"]?\s*(?::|=>|=)\s*['\"]([^'\"#\s]{1,120})['\"]"
)
_PASSWORD = re.compile(r"\bpassword['\"]?\s*(?::|=>|=)\s*['\"]([^'\"#\s]{1,120})['\"]")
_REACH = 1200  # characters behind the call in which its values stand


def administrator(names: frozenset[str], run: str, place: Evidence) -> Administrator | None:
    """How the part's known package makes a first administrator."""
    for package, task, there in _KNOWN:
        if package in names:
            address = "ADMIN_EMAIL"
            return Administrator(
                f"{run} {task}",
                address,
                address,
                "ADMIN_PASSWORD",
                there,
                "/admin/login",
                place,
                ADMIN_ADDRESS,
            )
    return None


def seeded_account(tree: Tree, folder: str, names: frozenset[str]) -> SeededAccount | None:
    """The first account in the part's seeds whose name and password stand there as plain text; one that is called
    an administrator before any other."""
    path = within(folder, "db/seeds.rb")
    if path not in tree:
        return None
    try:
        rows = tree.text(path).splitlines()
    except BadInput:
        return None  # no text: it makes none
    text = "\n".join("" if row.lstrip().startswith("#") else row for row in rows)
    page = "/admin/login" if "activeadmin" in names else ""
    found = []
    calls = [*_MADE.finditer(text)]
    for number, call in enumerate(calls):
        end = calls[number + 1].start() if number + 1 < len(calls) else len(text)
        words = text[call.start() : min(end, call.start() + _REACH)]
        name, password = _NAME.search(words), _PASSWORD.search(words)
        if name is not None and password is not None:
            line = text.count("\n", 0, call.start()) + 1
            account = SeededAccount(
                name.group(1), password.group(1), page, Evidence(path, line, call.group(1))
            )
            found.append(("admin" in words.lower(), account))
    return next((one for is_admin, one in found if is_admin), found[0][1] if found else None)
