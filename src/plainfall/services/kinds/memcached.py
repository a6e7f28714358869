"""Memcached."""

from __future__ import annotations

from plainfall.services.shape import ServiceKind

__all__ = ["KIND"]

KIND = ServiceKind(
    name="memcached",
    title="memcached",
    image=r"memcached",
    port=11211,
    schemes=r"^memcached?$",
    new_scheme="memcached",
    key_words={"MEMCACHE": 1, "MEMCACHED": 1, "CACHE": 2},
    drivers=r"pymemcache|pylibmc|python-memcached|memcached|memjs",
    precedence=6,
)
