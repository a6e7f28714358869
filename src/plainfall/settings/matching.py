"""Values that must equal something else: services' addresses, users, passwords, names, ports."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from plainfall.evidence import Evidence
from plainfall.formats.addresses import Address, is_local, parse_address
from plainfall.formats.values import is_placeholder, is_secret, plain_key
from plainfall.services.definitions import Definition

__all__ = ["Match", "Role", "match_service", "role_of"]

_KINDS = {
    "POSTGRES": ("postgres",),
    "POSTGRESQL": ("postgres",),
    "PSQL": ("postgres",),
    "PG": ("postgres",),
    "MYSQL": ("mysql",),
    "MARIADB": ("mysql",),
    "MONGO": ("mongodb",),
    "MONGODB": ("mongodb",),
    "REDIS": ("redis",),
    "VALKEY": ("redis",),
    "CACHE": ("redis", "memcached"),
    "QUEUE": ("redis", "rabbitmq"),
    "BROKER": ("rabbitmq", "redis", "mqtt"),
    "CELERY_BROKER": ("rabbitmq", "redis"),
    "CELERY_RESULT": ("redis",),
    "RABBIT": ("rabbitmq",),
    "RABBITMQ": ("rabbitmq",),
    "AMQP": ("rabbitmq",),
    "MEMCACHE": ("memcached",),
    "MEMCACHED": ("memcached",),
    "MQTT": ("mqtt",),
    "DB": ("postgres", "mysql", "mongodb"),
    "DATABASE": ("postgres", "mysql", "mongodb"),
    "SQL": ("postgres", "mysql"),
    "SQLALCHEMY": ("postgres", "mysql"),
    "DATASOURCE": ("postgres", "mysql"),
    "SQLALCHEMY_DATABASE": ("postgres", "mysql"),
}
_PIECES = {
    "host": "HOST HOSTNAME SERVER",
    "port": "PORT",
    "user": "USER USERNAME USR LOGIN",
    "password": "PASSWORD PASSWD PASS PWD",
    "name": "NAME DATABASE DB DBNAME DATABASE_NAME DB_NAME",
    "address": "URL URI DSN ADDRESS ADDR CONNECTION_STRING BACKEND CONNECTION_URL",
}
_PIECE_WORDS = sorted((word for words in _PIECES.values() for word in words.split()), key=len, reverse=True)
_ROLE = re.compile(
    rf"^(?:.*_)?(?P<service>{'|'.join(sorted(_KINDS, key=len, reverse=True))})_?"
    rf"(?P<piece>{'|'.join(_PIECE_WORDS)})$"
)
_BARE_ADDRESS = re.compile(r"^(?:.*_)?(?P<service>DATABASE|REDIS|MONGO|MONGODB|RABBITMQ)$")
_SCHEMES = (
    ("postgres", r"^postg"),
    ("mysql", r"^(mysql|mariadb)"),
    ("mongodb", r"^mongodb"),
    ("redis", r"^(rediss?|valkeys?)$"),
    ("rabbitmq", r"^(amqps?|pyamqp)$"),
    ("memcached", r"^memcached?$"),
    ("mqtt", r"^mqtts?$"),
)
_NEW_SCHEME = {
    "postgres": "postgresql",
    "mysql": "mysql",
    "mongodb": "mongodb",
    "redis": "redis",
    "rabbitmq": "amqp",
    "memcached": "memcached",
    "mqtt": "mqtt",
}
_WORDS = {"user": "user", "password": "password", "name": "database", "port": "port", "host": "host"}


@dataclass(frozen=True, slots=True)
class Role:
    """What a key is to a service: the kinds of service that it may be about, and the piece ("host", "port",
    "user", "password", "name", "address")."""

    kinds: tuple[str, ...]
    piece: str


@dataclass(frozen=True, slots=True)
class Match:
    """The value that a key must have, the place that it equals, what that place is in words, and the pieces
    in which the template's value differed from it (secrets not in them); ``binding`` tells whether that place
    is right where they differ."""

    value: str
    place: Evidence
    what: str
    differs: tuple[str, ...] = ()
    binding: bool = True


def role_of(key: str) -> Role | None:
    """What a key of any kind of file is to a service; None if its name tells of none."""
    name = re.sub(r"^(DEFAULT|DEVELOPMENT|DEV)_", "", plain_key(key))
    found = _ROLE.match(name)
    if not found:
        bare = _BARE_ADDRESS.match(name) if "." not in key else None
        return Role(_KINDS[bare.group("service")], "address") if bare else None
    piece = next(piece for piece, words in _PIECES.items() if found.group("piece") in words.split())
    return Role(_KINDS[found.group("service")], piece)


def match_service(
    key: str, value: str, definitions: Sequence[Definition], values: Mapping[str, str]
) -> Match | None:
    """The value that the clone's service definitions call for; None where they say nothing of this key.

    ``value`` is the template's (or the file's) own, ``values`` what the definitions' variables come to. The
    server runs on this machine and not in the services' own network, so a host is this machine and a port
    the published one.
    """
    found, definition = _found(key, value, definitions, values)
    if found is None or definition is None or definition.binding:
        return found
    what = f"the database in {definition.service}"
    if is_placeholder(value):
        return replace(found, what=what)
    return Match(value, found.place, what, found.differs, binding=False)


def _found(
    key: str, value: str, definitions: Sequence[Definition], values: Mapping[str, str]
) -> tuple[Match | None, Definition | None]:
    role = role_of(key)
    address = parse_address(value)
    if address is not None:
        kind = next((kind for kind, scheme in _SCHEMES if re.search(scheme, address.scheme)), None)
        if kind is None:
            return None, None
        definition = _chosen((kind,), definitions, address.host)
        match = _match_address(key, address, value, definition, values) if definition else None
        return match, definition
    definition = _chosen(role.kinds, definitions, value if role.piece == "host" else "") if role else None
    if role is None or definition is None:
        return None, None
    if role.piece == "address":
        return (_built(definition, values) if is_placeholder(value) else None), definition
    return _match_piece(key, role.piece, value, definition, values), definition


def _chosen(kinds: Sequence[str], definitions: Sequence[Definition], host: str) -> Definition | None:
    """The definition that a key is about: the one of that name, else the first that is not for tests."""
    fitting = [one for kind in kinds for one in definitions if one.kind == kind]
    named = [one for one in fitting if one.service == host]
    plain = [one for one in fitting if "test" not in one.service]
    binding = [one for one in plain if one.binding]
    return next(iter(named or binding or plain or fitting), None)


def _values(definition: Definition, outside: Mapping[str, str]) -> dict[str, tuple[str, Evidence]]:
    """What a definition says, resolved: piece to value and place; the host is this machine."""
    known = {**definition.beside, **outside}
    found = {
        piece: (resolved, value.place)
        for piece, value in definition.values.items()
        if (resolved := value.resolved(known)) or piece == "password"
    }
    found.setdefault("port", (str(definition.standard_port), definition.place))
    return found


def _match_piece(
    key: str, piece: str, value: str, definition: Definition, outside: Mapping[str, str]
) -> Match | None:
    what = f"the service {definition.service}"
    if piece == "host":
        right = value if is_local(value) else "localhost"
        known = is_placeholder(value) or value in (right, definition.service)
        differs = () if known else (f"host {value}",)
        return Match(right, definition.place, f"{what}, reached on this machine", differs)
    said = definition.values.get(piece)
    if said is not None and key in said.names:
        # The definition takes this very key in: what it holds is right, and a default fills an empty one.
        default = said.default_of(key)
        if default and is_placeholder(value):
            return Match(default, said.place, f"the default of {what}")
        return None
    found = _values(definition, outside).get(piece)
    if found is None or not found[0] or (piece == "port" and said is None and is_placeholder(value) is False):
        return None
    right, place = found
    if right == value:
        return Match(value, place, what)
    said_here = "another value" if is_secret(key) else f"{value} (there: {right})"
    differs = () if is_placeholder(value) else (said_here,)
    return Match(right, place, what, differs)


def _match_address(
    key: str, address: Address, value: str, definition: Definition, outside: Mapping[str, str]
) -> Match | None:
    if any(key in said.names for said in definition.values.values()):
        return None
    if "${" in value:
        return None  # built from other keys, which are matched by themselves
    found = _values(definition, outside)
    right, differs = address, []
    place = definition.place
    for piece in ("user", "password", "name"):
        said = found.get(piece)
        if said is None or (piece in ("user", "password") and not said[0]):
            continue
        held = {"user": address.user, "password": address.password, "name": address.name}[piece]
        if held == said[0] or (piece == "name" and definition.kind in ("redis", "memcached", "mqtt")):
            continue
        if piece == "name":
            right = right.with_name(said[0])
        elif piece == "user":
            right = replace(right, user=said[0])
        else:
            right = replace(right, password=said[0])
        if held and not (piece == "password" and is_placeholder(held)):
            shown = f"{_WORDS[piece]} {held} (there: {said[0]})"
            differs.append("another password" if piece == "password" else shown)
        place = said[1]
    if not is_local(address.host):
        right = replace(right, host="localhost")
        if address.host != definition.service:
            differs.append(f"host {address.host}")
    published = found["port"]
    standard = definition.standard_port
    if (
        "port" in definition.values
        and str(address.port or standard) != published[0]
        and published[0].isdigit()
    ):
        right = replace(right, port=int(published[0]))
        # From inside the services' network the standard port is right, so that is no disagreement there.
        if address.host != definition.service:
            differs.append(f"port {address.port or standard} (there: {published[0]})")
            place = published[1]
    return Match(
        value if right == address else str(right), place, f"the service {definition.service}", tuple(differs)
    )


def _built(definition: Definition, outside: Mapping[str, str]) -> Match:
    found = _values(definition, outside)
    user = found.get("user", ("", definition.place))[0] or None
    password = found.get("password", ("", definition.place))[0] or None
    port = found["port"][0]
    name = found.get("name", ("", definition.place))[0]
    if definition.kind == "redis":
        name = "0"
    address = Address(
        _NEW_SCHEME[definition.kind],
        user if user or not password else "",
        password,
        "localhost",
        int(port) if port.isdigit() else definition.standard_port,
        "",
    )
    whole = address.with_name(name) if name else address
    return Match(str(whole), definition.place, f"the service {definition.service}")
