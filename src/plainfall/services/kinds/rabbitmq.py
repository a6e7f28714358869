"""RabbitMQ."""

from __future__ import annotations

from plainfall.services.shape import ServiceKind

__all__ = ["KIND"]

KIND = ServiceKind(
    name="rabbitmq",
    title="RabbitMQ",
    image=r"rabbitmq",
    port=5672,
    schemes=r"^(amqps?|pyamqp)$",
    new_scheme="amqp",
    key_words={"RABBIT": 1, "RABBITMQ": 1, "AMQP": 1, "QUEUE": 2, "BROKER": 1, "CELERY_BROKER": 1},
    variables={
        "user": ("RABBITMQ_DEFAULT_USER",),
        "password": ("RABBITMQ_DEFAULT_PASS",),
        "name": ("RABBITMQ_DEFAULT_VHOST",),
    },
    precedence=5,
)
