"""Adonis: known by the manifest; what it wants of settings."""

from __future__ import annotations

from plainfall.clone.frameworks import Form, FrameworkFound, SecretForm, Traits, named_in_manifest
from plainfall.clone.walk import Tree

__all__ = ["TRAITS", "recognise"]

ORDER = 20
TRAITS = Traits(("Adonis",), secrets=(SecretForm(("APP_KEY",), Form("safe", 32, "", "AdonisJS")),))


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part whose manifest lists it."""
    place = named_in_manifest(tree, folder, "package.json", "@adonisjs/core")
    return FrameworkFound("Adonis", place, serves=False) if place else None
