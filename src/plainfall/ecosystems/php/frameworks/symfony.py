"""Symfony: known by the manifest; what it wants of settings."""

from __future__ import annotations

from plainfall.clone.frameworks import Form, FrameworkFound, SecretForm, Traits, named_in_manifest
from plainfall.clone.walk import Tree

__all__ = ["TRAITS", "recognise"]

ORDER = 20
TRAITS = Traits(
    ("Symfony",),
    secrets=(SecretForm(("APP_SECRET",), Form("hex", 32, "", "Symfony")),),
    values={"APP_ENV": "dev"},
    reads_local=True,
)


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part whose manifest lists it."""
    place = named_in_manifest(tree, folder, "composer.json", "symfony/framework-bundle")
    return FrameworkFound("Symfony", place, serves=False) if place else None
