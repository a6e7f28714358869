"""Redis and the servers that speak its protocol."""

from __future__ import annotations

from plainfall.services.shape import ServiceKind

__all__ = ["KIND"]

KIND = ServiceKind(
    name="redis",
    title="Redis",
    image=r"redis|valkey|keydb|dragonfly",
    port=6379,
    schemes=r"^(rediss?|valkeys?)$",
    new_scheme="redis",
    key_words={
        "REDIS": 1,
        "VALKEY": 1,
        "CACHE": 1,
        "QUEUE": 1,
        "BROKER": 2,
        "CELERY_BROKER": 2,
        "CELERY_RESULT": 1,
    },
    variables={"password": ("REDIS_PASSWORD",)},
    command_password=r"""--requirepass\s+["']?([^\s"']+)""",
    drivers=r"\b(redis|aioredis|django-redis|ioredis|connect-redis|bullmq|rq)\b",
    fetched="6 MB",
    precedence=4,
)
