"""Keys of the package cache: the one type under which anything is kept there.

What the cache keeps is taken up again by every clone of this user, so a key holds all that the kept thing
depends on. There are four kinds of origin, each with a constructor of its own, and no other way to make a key:

``of_content``    bytes whose digest was checked in this very use: nothing else can be meant by that digest
``of_statement``  what somebody at an address gave or said: the whole addresses count (scheme, login, host,
                  port, path, query), and whatever the statement is about
``of_product``    what was made here of other things: all of these, the tools, the runtime, the registries of
                  the tools, and where the person had to allow it
``of_machine``    what this machine or this person's own configuration says: no clone takes part in it

>>> digest = Digest.of_data("sha256", b"")
>>> CacheKey.of_content("python", digest).name == digest.hex
True
>>> CacheKey.of_content("ruby", digest) == CacheKey.of_content("node", digest)
False
>>> one = CacheKey.of_statement("metadata", ["https://registry.example/a/"], "gauge", "1.0")
>>> one == CacheKey.of_statement("metadata", ["http://registry.example/a/"], "gauge", "1.0")
False
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence

from msgspec import Struct

from plainfall.errors import ArchiveRefused
from plainfall.packages.digests import Digest, is_key
from plainfall.patterns import regex

__all__ = ["CacheKey"]

_KIND = regex(r"[a-z][a-z0-9-]{0,40}")
_WHEELS = "python"  # trees of wheels have the archive's own digest as their name: RECORD and locks compare it


class CacheKey(Struct, frozen=True):
    """A kind ("python", "ruby-built", "metadata") and a name of 32 to 128 hex digits.

    Raises ArchiveRefused for a name that is no such thing, since it becomes a part of a path.
    """

    kind: str
    name: str

    def __post_init__(self) -> None:
        if not is_key(self.name) or not _KIND.fullmatch(self.kind):
            raise ArchiveRefused(
                f"{self.name[:120]!r} is no digest, and nothing is looked up under it",
                remedy="The registry, the index page or the lock that states it is wrong or hostile.",
            )

    @classmethod
    def of_content(cls, kind: str, digest: Digest) -> CacheKey:
        """The key of bytes with a digest that this use checks. Raises ArchiveRefused for MD5 and SHA-1, for which
        other bytes can be made: there the address counts, too (``of_statement``)."""
        if digest.weak:
            raise ArchiveRefused(
                f"{digest.algorithm} identifies no archive by itself",
                remedy="Write the lock again with a current version of its tool, which states SHA-256 or SHA-512.",
            )
        if kind == _WHEELS and digest.algorithm == "sha256":
            return cls(kind, digest.hex)
        return cls(kind, _name("content", kind, digest.algorithm, digest.hex))

    @classmethod
    def of_statement(cls, kind: str, addresses: Sequence[str], *about: object) -> CacheKey:
        """The key of what any of these addresses gave, in their order, about something."""
        if not addresses or not all(addresses):
            raise ValueError(f"a statement ({kind}) without an address")
        return cls(kind, _name("statement", kind, list(addresses), *about))

    @classmethod
    def of_product(
        cls,
        kind: str,
        *,
        material: Sequence[object],
        tools: Sequence[object],
        runtime: str,
        registries: Sequence[str],
        allowed: bool,
    ) -> CacheKey:
        """The key of something that was made here.

        ``material`` is what it was made of (names of keys, digests, options of the lock); ``tools`` what took
                     part in making it; ``runtime`` the interpreter's identity ("" where none ran);
                     ``registries`` where tools came from that are not named by digest; ``allowed`` tells that
                     the code which made it may run in this clone (True where nobody has to be asked): without
                     that there is no key. Raises ValueError then.
        """
        if not allowed:
            raise ValueError(f"a product ({kind}) of code that nobody allowed here")
        return cls(kind, _name("product", kind, list(material), list(tools), runtime, list(registries)))

    @classmethod
    def of_machine(cls, kind: str, *about: object) -> CacheKey:
        """The key of a conclusion about this machine, or about the person's own configuration."""
        return cls(kind, _name("machine", kind, *about))

    @classmethod
    def recorded(cls, kind: str, name: str) -> CacheKey:
        """A key that a sealed record of ours holds, or that was found in the cache itself."""
        return cls(kind, name)


def _name(*pieces: object) -> str:
    """64 hex digits over the pieces' JSON form. Raises TypeError for a piece that has none."""
    text = json.dumps(pieces, ensure_ascii=False, sort_keys=True)
    return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()
