"""Brokers that speak MQTT."""

from __future__ import annotations

from plainfall.services.shape import ServiceKind

__all__ = ["KIND"]

KIND = ServiceKind(
    name="mqtt",
    title="an MQTT broker",
    image=r"mosquitto|emqx|vernemq",
    port=1883,
    schemes=r"^mqtts?$",
    new_scheme="mqtt",
    key_words={"MQTT": 1, "BROKER": 3},
    precedence=7,
)
