"""Digests of archives, checked before any of them is compared or becomes part of a path.

Locks, index pages and manifests state digests in hex, in base64 (Subresource Integrity, W3C) and with or without
their algorithm's name. Whatever they state, here it becomes a ``Digest`` or it is refused.
"""

from __future__ import annotations

import base64
import binascii
import hashlib

from msgspec import Struct

from plainfall.patterns import regex

__all__ = ["ALGORITHMS", "Digest", "is_key"]

# Hex digits by algorithm. The last two protect against accidents only, since collisions can be made.
ALGORITHMS = {"sha512": 128, "sha384": 96, "sha256": 64, "sha224": 56, "sha1": 40, "md5": 32}
_KEY = regex(r"[0-9a-f]{32,128}")


def is_key(text: str) -> bool:
    """Whether a text may be the name of a folder of the cache: 32 to 128 hex digits, and nothing else."""
    return _KEY.fullmatch(text) is not None


class Digest(Struct, frozen=True, order=True):
    """An algorithm of ``ALGORITHMS`` and a digest of its length in lower-case hex. Raises ValueError for
    anything else."""

    algorithm: str
    hex: str

    def __post_init__(self) -> None:
        length = ALGORITHMS.get(self.algorithm)
        if length is None:
            raise ValueError(f"{self.algorithm!r} is no algorithm of digests that is known here")
        if len(self.hex) != length or not _KEY.fullmatch(self.hex):
            raise ValueError(f"{self.hex[:80]!r} is no {self.algorithm} digest of {length} hex digits")

    @classmethod
    def of_hex(cls, algorithm: str, text: str) -> Digest:
        """The digest of a hex text in either case."""
        return cls(algorithm.lower(), text.strip().lower())

    @classmethod
    def of_data(cls, algorithm: str, data: bytes) -> Digest:
        """The digest of bytes."""
        return cls(algorithm, hashlib.new(algorithm, data).hexdigest())

    @classmethod
    def of_integrity(cls, text: str) -> Digest | None:
        """The strongest digest of a Subresource Integrity text; None for an empty one. Raises ValueError for a
        text that holds none that is valid."""
        results = []
        problem: ValueError | None = None
        for word in text.split():
            algorithm, _, encoded = word.partition("-")
            try:
                data = base64.b64decode(encoded.partition("?")[0], validate=True)
                results.append(cls(algorithm, data.hex()))
            except (ValueError, binascii.Error) as error:
                problem = ValueError(f"{word[:100]!r} is no digest: {error}")
        if not results and problem is not None:
            raise problem
        order = list(ALGORITHMS)
        return min(results, key=lambda one: order.index(one.algorithm), default=None)

    @property
    def weak(self) -> bool:
        """Whether other bytes with the same digest can be made."""
        return self.algorithm in ("sha1", "md5")

    def __str__(self) -> str:
        """As a Subresource Integrity word."""
        return f"{self.algorithm}-{base64.b64encode(bytes.fromhex(self.hex)).decode()}"
