"""Reload channels as values: what a framework's module says of the one that its pages open."""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct

__all__ = ["Channel", "ChannelFinder"]


class Channel(Struct, frozen=True):
    """Where a page would listen for changes: path, protocol ("" for none), and whose it is."""

    path: str
    protocol: str
    title: str


# Given the paths of what a page loads, its text, and what fetches another path's text.
ChannelFinder = Callable[[list[str], str, Callable[[str], str]], Channel | None]
