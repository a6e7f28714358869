"""Laravel: known by the manifest; what it wants of settings."""

from __future__ import annotations

from plainfall.clone.frameworks import Form, FrameworkFound, SecretForm, Traits, named_in_manifest
from plainfall.clone.walk import Tree

__all__ = ["TRAITS", "recognise"]

ORDER = 20
TRAITS = Traits(
    ("Laravel",),
    prefixes=("LARAVEL_",),
    secrets=(SecretForm(("APP_KEY",), Form("base64", 32, "base64:", "Laravel")),),
    values={"APP_ENV": "local"},
)


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part whose manifest lists it."""
    place = named_in_manifest(tree, folder, "composer.json", "laravel/framework")
    return FrameworkFound("Laravel", place, serves=False) if place else None
