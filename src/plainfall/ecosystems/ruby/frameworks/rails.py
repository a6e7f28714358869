"""Ruby on Rails: known by the manifest; what it wants of settings."""

from __future__ import annotations

from plainfall.clone.frameworks import Form, FrameworkFound, SecretForm, Traits, named_in_manifest
from plainfall.clone.walk import Tree

__all__ = ["TRAITS", "recognise"]

ORDER = 20
TRAITS = Traits(
    ("Rails",),
    prefixes=("RAILS_",),
    secrets=(
        SecretForm(("SECRET_KEY_BASE",), Form("hex", 128, "", "Rails"), True),
        SecretForm(("RAILS_MASTER_KEY",), Form("hex", 32, "", "Rails"), True),
    ),
)


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part whose manifest lists it."""
    place = named_in_manifest(tree, folder, "Gemfile", "rails")
    return FrameworkFound("Rails", place, serves=False) if place else None
