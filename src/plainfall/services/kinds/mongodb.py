"""MongoDB."""

from __future__ import annotations

from plainfall.services.shape import ServiceKind

__all__ = ["KIND"]

KIND = ServiceKind(
    name="mongodb",
    title="MongoDB",
    image=r"mongo",
    port=27017,
    schemes=r"^mongodb",
    new_scheme="mongodb",
    key_words={"MONGO": 1, "MONGODB": 1, "DB": 3, "DATABASE": 3},
    variables={
        "user": ("MONGO_INITDB_ROOT_USERNAME",),
        "password": ("MONGO_INITDB_ROOT_PASSWORD",),
        "name": ("MONGO_INITDB_DATABASE",),
    },
    adapter=r"^mongo",
    precedence=3,
)
