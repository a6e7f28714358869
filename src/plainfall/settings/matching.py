"""Values that must equal something else: services' addresses, users, passwords, names, ports."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from msgspec import Struct
from msgspec.structs import replace

from plainfall.evidence import Evidence
from plainfall.formats.addresses import Address, is_local, parse_address
from plainfall.formats.values import is_placeholder, is_secret
from plainfall.services.definitions import Definition
from plainfall.services.roles import role_of
from plainfall.services.shape import kind_named, kinds

__all__ = ["Match", "match_service"]


_WORDS = {"user": "user", "password": "password", "name": "database", "port": "port", "host": "host"}


class Match(Struct, frozen=True):
    """The value that a key must have, the place that it equals, what that place is in words, and the pieces
    in which the template's value differed from it (secrets not in them); ``binding`` tells whether that place
    is right where they differ."""

    value: str
    place: Evidence
    what: str
    differs: tuple[str, ...] = ()
    binding: bool = True


def match_service(
    key: str, value: str, definitions: Sequence[Definition], values: Mapping[str, str]
) -> Match | None:
    """The value that the clone's service definitions call for; None where they say nothing of this key.

    ``value`` is the template's (or the file's) own, ``values`` what the definitions' variables come to. The
    server runs on this machine and not in the services' own network, so a host is this machine and a port
    the published one.
    """
    result, definition = _found(key, value, definitions, values)
    if result is None or definition is None or definition.binding:
        return result
    what = f"the database in {definition.service}"
    if is_placeholder(value):
        return replace(result, what=what)
    over_port = _over_port(value, kind_named(definition.kind).host)
    return Match(over_port, result.place, what, result.differs, binding=over_port != value)


def _over_port(value: str, host: str) -> str:
    """The value with the name by which drivers come over a port, where it names this machine in another way."""
    if host == "localhost":
        return value
    address = parse_address(value)
    if address is not None and address.host == "localhost":
        return str(replace(address, host=host))
    return host if value == "localhost" else value


def _found(
    key: str, value: str, definitions: Sequence[Definition], values: Mapping[str, str]
) -> tuple[Match | None, Definition | None]:
    role = role_of(key)
    address = parse_address(value)
    if address is not None:
        kind = next((one.name for one in kinds() if re.search(one.schemes, address.scheme)), None)
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
    known = {**definition.other_values, **outside}
    results = {
        piece: (resolved, value.place)
        for piece, value in definition.values.items()
        if (resolved := value.resolved(known)) or piece == "password"
    }
    results.setdefault("port", (str(definition.standard_port), definition.place))
    return results


def _match_piece(
    key: str, piece: str, value: str, definition: Definition, outside: Mapping[str, str]
) -> Match | None:
    what = f"the service {definition.service}"
    if piece == "host":
        host = kind_named(definition.kind).host
        right = _over_port(value, host) if is_local(value) else host
        known = is_placeholder(value) or is_local(value) or value == definition.service
        differs = () if known else (f"host {value}",)
        return Match(right, definition.place, f"{what}, reached on this machine", differs)
    text = definition.values.get(piece)
    if text is not None and key in text.names:
        # The definition takes this very key in: what it holds is right, and a default fills an empty one.
        default = text.default_of(key)
        if default and is_placeholder(value):
            return Match(default, text.place, f"the default of {what}")
        return None
    result = _values(definition, outside).get(piece)
    if (
        result is None
        or not result[0]
        or (piece == "port" and text is None and is_placeholder(value) is False)
    ):
        return None
    right, place = result
    if right == value:
        return Match(value, place, what)
    said_here = "another value" if is_secret(key) else f"{value} (there: {right})"
    differs = () if is_placeholder(value) else (said_here,)
    return Match(right, place, what, differs)


def _match_address(
    key: str, address: Address, value: str, definition: Definition, outside: Mapping[str, str]
) -> Match | None:
    if any(key in text.names for text in definition.values.values()):
        return None
    if "${" in value:
        return None  # built from other keys, which are matched by themselves
    result = _values(definition, outside)
    right, differs = address, []
    place = definition.place
    for piece in ("user", "password", "name"):
        text = result.get(piece)
        if text is None or (piece in ("user", "password") and not text[0]):
            continue
        content = {"user": address.user, "password": address.password, "name": address.name}[piece]
        if content == text[0] or (piece == "name" and definition.kind in ("redis", "memcached", "mqtt")):
            continue
        if piece == "name":
            right = right.with_name(text[0])
        elif piece == "user":
            right = replace(right, user=text[0])
        else:
            right = replace(right, password=text[0])
        if content and not (piece == "password" and is_placeholder(content)):
            shown = f"{_WORDS[piece]} {content} (there: {text[0]})"
            differs.append("another password" if piece == "password" else shown)
        place = text[1]
    if not is_local(address.host):
        right = replace(right, host=kind_named(definition.kind).host)
        if address.host != definition.service:
            differs.append(f"host {address.host}")
    elif address.host == "localhost":
        right = replace(right, host=kind_named(definition.kind).host)
    published = result["port"]
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
    result = _values(definition, outside)
    user = result.get("user", ("", definition.place))[0] or None
    password = result.get("password", ("", definition.place))[0] or None
    port = result["port"][0]
    name = result.get("name", ("", definition.place))[0]
    if definition.kind == "redis":
        name = "0"
    address = Address(
        kind_named(definition.kind).new_scheme,
        user if user or not password else "",
        password,
        kind_named(definition.kind).host,
        int(port) if port.isdigit() else definition.standard_port,
        "",
    )
    entire = address.with_name(name) if name else address
    return Match(str(entire), definition.place, f"the service {definition.service}")
