"""What is in a cache: Redis keys by their types, with a few values."""

from __future__ import annotations

from typing import Any

from msgspec import Struct

from plainfall.data.opened import DatabasePlace
from plainfall.errors import DatabaseProblem

__all__ = ["Keys", "keys_of"]

_MOST = 10_000  # keys that are looked at
_SAMPLES = 3  # of a type
_LENGTH = 200  # characters of a value
_WAIT = 3.0  # seconds


class Keys(Struct, frozen=True):
    """The keys of one type: how many there are, and a few of them with their values as text."""

    type: str
    count: int
    samples: tuple[tuple[str, str], ...]

    def as_json(self) -> dict[str, Any]:
        """The form that ``data --json`` shows."""
        samples = [{"key": key, "value": value} for key, value in self.samples]
        return {"type": self.type, "keys": self.count, "samples": samples}


def keys_of(place: DatabasePlace) -> tuple[list[Keys], bool]:
    """The keys by type, the most first, and whether there are more than were looked at (10,000). Reads only. Raises
    DatabaseProblem."""
    import redis

    client = redis.Redis(
        "127.0.0.1",
        place.port,
        int(place.database or 0) if (place.database or "0").isdigit() else 0,
        place.password or None,
        username=place.user or None,
        socket_timeout=_WAIT,
        socket_connect_timeout=_WAIT,
        decode_responses=False,
    )
    counts: dict[str, int] = {}
    samples: dict[str, list[tuple[str, str]]] = {}
    seen = 0
    try:
        for key in client.scan_iter(count=1000):
            seen += 1
            if seen > _MOST:
                break
            kind = _text(client.type(key))
            counts[kind] = counts.get(kind, 0) + 1
            if len(samples.setdefault(kind, [])) < _SAMPLES:
                samples[kind].append((_text(key), _value(client, kind, key)))
    except (redis.RedisError, OSError) as error:
        raise DatabaseProblem(
            f"{place.label} on port {place.port}: {error}",
            place=place.named,
            remedy="Start the clone's servers with: plainfall serve",
        ) from error
    finally:
        client.close()
    kinds = sorted(counts, key=lambda kind: (-counts[kind], kind))
    return [Keys(kind, counts[kind], tuple(samples[kind])) for kind in kinds], seen > _MOST


def _value(client: Any, kind: str, key: bytes) -> str:
    match kind:
        case "string":
            return _text(client.getrange(key, 0, _LENGTH))
        case "list":
            return f"{client.llen(key):,} items: {', '.join(_text(one) for one in client.lrange(key, 0, 2))}"[
                :_LENGTH
            ]
        case "set":
            return f"{client.scard(key):,} members"
        case "zset":
            return f"{client.zcard(key):,} members"
        case "hash":
            names = [_text(one) for one in next(iter([client.hscan(key, count=10)[1]]))][:5]
            return f"{client.hlen(key):,} fields: {', '.join(names)}"[:_LENGTH]
        case "stream":
            return f"{client.xlen(key):,} entries"
        case _:
            return ""


def _text(value: Any) -> str:
    return bytes(value).decode("utf-8", "replace") if isinstance(value, bytes | memoryview) else str(value)
