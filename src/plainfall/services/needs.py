"""Which servers a clone needs on this machine: what its settings, its sources and its definitions address.

Three kinds of places say it: an address (``postgresql://…``), the pieces of one in several settings (a host, a
user, a name), and a service definition. Only what is addressed on this machine is a need: a server elsewhere is
the person's own."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Mapping, Sequence

from msgspec import Struct, field
from msgspec.structs import replace

from plainfall.evidence import Evidence
from plainfall.formats.addresses import is_local, parse_address
from plainfall.formats.values import is_placeholder
from plainfall.patterns import regex
from plainfall.services.definitions import Definition
from plainfall.services.engine import Account
from plainfall.services.roles import role_of
from plainfall.services.shape import ServiceKind, kind_named, kinds

__all__ = ["Said", "ServiceNeed", "kind_of_scheme", "needs_of", "of_databases"]

_HINT = regex(r"(^|_)(CONNECTION|ENGINE|DIALECT|CLIENT|DRIVER|ADAPTER|TYPE|BACKEND|KIND|VENDOR)$")
_VERSION = regex(r":v?(\d+(?:\.\d+)?)")


class Said(Struct, frozen=True):
    """A value under a key ("" for one that stands in the sources alone), and where it stands. ``own`` tells that
    the person gave it, and not a template or the code."""

    key: str
    value: str
    place: Evidence
    own: bool = False


class ServiceNeed(Struct, frozen=True):
    """A server that must answer on a port of this machine: its kind, who must come in, the place that says so,
    and the version that a definition asks for ("" for any). ``fixed`` tells that the address stands in the
    sources, where no setting changes it; ``own`` that the person gave it. ``via`` is the key that holds it, ""
    for none."""

    kind: str
    port: int
    accounts: tuple[Account, ...]
    place: Evidence
    version: str = ""
    fixed: bool = False
    own: bool = False
    via: str = ""


class _Group(Struct):
    """The pieces of one address that several settings hold."""

    pieces: dict[str, Said] = field(default_factory=dict)


def kind_of_scheme(scheme: str) -> ServiceKind | None:
    """The kind that an address's scheme means."""
    return next((one for one in kinds() if re.search(one.schemes, scheme)), None)


def needs_of(
    said: Sequence[Said], sources: Sequence[Said], definitions: Sequence[Definition], manifests: str
) -> list[ServiceNeed]:
    """The servers that are addressed, each kind and port once. ``said`` are the settings, as they will be;
    ``sources`` addresses that stand in sources; ``manifests`` the text of the dependency lists, whose drivers tell
    what ``DB_HOST`` is about."""
    found = [*_addressed(said, fixed=False), *_addressed(sources, fixed=True)]
    found += _in_pieces(said, definitions, manifests)
    spoken = {one.kind for one in found}
    found += [
        _of_definition(one, said)
        for one in definitions
        if one.binding and one.kind not in spoken and "test" not in one.service
    ]
    return _joined(found, definitions, said)


def of_databases(text: str, values: Mapping[str, str]) -> list[Said]:
    """The address that a configuration of databases in the sources comes to with these settings: the JSON that the
    sources' reader keeps of it, a piece to its value, or to the key and the default that it takes."""
    pieces: dict[str, str] = {}
    for name, one in json.loads(text).items():
        pieces[name] = values.get(one["key"], one.get("default") or "") if "key" in one else str(one["value"])
    kind = _kind_of_adapter(pieces.get("ENGINE", ""))
    host = pieces.get("HOST", "")
    if kind is None or (host and not is_local(host)) or host.startswith("/"):
        return []
    from plainfall.formats.addresses import Address

    port = int(pieces["PORT"]) if pieces.get("PORT", "").isdigit() else kind.port
    address = Address(
        kind.new_scheme, pieces.get("USER") or None, pieces.get("PASSWORD") or None, "localhost", port, ""
    )
    return [Said("", str(address.with_name(pieces.get("NAME", ""))), Evidence(""))]


def _addressed(said: Iterable[Said], *, fixed: bool) -> Iterable[ServiceNeed]:
    for one in said:
        address = parse_address(one.value)
        kind = kind_of_scheme(address.scheme) if address is not None else None
        if address is None or kind is None or not is_local(address.host):
            continue
        account = Account(address.user or "", address.password or "", address.name)
        yield ServiceNeed(
            kind.name, address.port or kind.port, (account,), one.place, fixed=fixed, own=one.own, via=one.key
        )


def _in_pieces(
    said: Sequence[Said], definitions: Sequence[Definition], manifests: str
) -> Iterable[ServiceNeed]:
    groups: dict[tuple[str, ...], _Group] = {}
    for one in said:
        role = role_of(one.key)
        if role is not None and role.piece != "address" and parse_address(one.value) is None:
            groups.setdefault(role.kinds, _Group()).pieces.setdefault(role.piece, one)
    for choices, group in groups.items():
        kind = _chosen(choices, group, said, definitions, manifests)
        host = group.pieces.get("host")
        if kind is None or (host is not None and not is_local(host.value)):
            continue
        told = [group.pieces[piece] for piece in ("host", "name", "user") if piece in group.pieces]
        if host is None and "name" not in group.pieces:
            continue
        given = group.pieces.get("port")
        port = int(given.value) if given is not None and given.value.isdigit() else kind.port
        user, password, name = (
            group.pieces[piece].value if piece in group.pieces else ""
            for piece in ("user", "password", "name")
        )
        own = any(one.own for one in told)
        yield ServiceNeed(
            kind.name, port, (Account(user, password, name),), told[0].place, own=own, via=told[0].key
        )


def _chosen(
    choices: Sequence[str],
    group: _Group,
    said: Sequence[Said],
    definitions: Sequence[Definition],
    manifests: str,
) -> ServiceKind | None:
    """The kind that the pieces are about: what a setting beside them says, the port, a definition, the driver
    that is listed; None where nothing tells."""
    candidates = [kind_named(name) for name in choices]
    for one in said:
        if _HINT.search(one.key) and (kind := _kind_of_adapter(one.value)) is not None and kind in candidates:
            return kind
        if _HINT.search(one.key) and re.search(r"DB|DATABASE", one.key) and "sqlite" in one.value:
            return None
    port = group.pieces.get("port")
    for kind in candidates:
        if port is not None and port.value == str(kind.port):
            return kind
    for kind in candidates:
        if any(one.kind == kind.name for one in definitions):
            return kind
    if len(candidates) == 1 and candidates[0].by_keys_alone and "host" in group.pieces and port is not None:
        [kind] = candidates
        told = [group.pieces["host"], port]
        unused = bool(kind.unused) and any(re.search(kind.unused, f"{one.key}={one.value}") for one in said)
        # What the person gave is the person's own server, and one by the usual port is met above.
        return None if unused or any(one.own for one in told) else kind
    listed = [
        kind for kind in candidates if kind.drivers and re.search(kind.drivers, manifests, re.IGNORECASE)
    ]
    return listed[0] if len(listed) == 1 else None


def _kind_of_adapter(word: str) -> ServiceKind | None:
    return next(
        (one for one in kinds() if one.adapter and re.search(one.adapter, word.strip().lower())), None
    )


def _of_definition(definition: Definition, said: Sequence[Said]) -> ServiceNeed:
    values = {**definition.other_values, **{one.key: one.value for one in said if one.key}}
    text = {piece: value.resolved(values) for piece, value in definition.values.items()}
    port = int(text["port"]) if text.get("port", "").isdigit() else definition.standard_port
    account = Account(text.get("user", ""), text.get("password", ""), text.get("name", ""))
    return ServiceNeed(definition.kind, port, (account,), definition.place)


def _joined(
    found: Iterable[ServiceNeed], definitions: Sequence[Definition], said: Sequence[Said]
) -> list[ServiceNeed]:
    """One need for a kind and a port, with all who must come in; what one of them lacks is filled from a definition
    of its kind."""
    known: dict[tuple[str, int], ServiceNeed] = {}
    for need in found:
        defined = next(
            (one for one in definitions if one.kind == need.kind and "test" not in one.service), None
        )
        version = ""
        if defined is not None:
            match = _VERSION.search(defined.place.text)
            version = match.group(1) if match else ""
            other = _of_definition(defined, said).accounts[0]
            need = replace(need, accounts=tuple(_filled(one, other) for one in need.accounts))
        before = known.get((need.kind, need.port))
        accounts = need.accounts if before is None else (*before.accounts, *need.accounts)
        whole = replace(before or need, accounts=tuple(dict.fromkeys(accounts)), version=version)
        known[need.kind, need.port] = replace(
            whole, fixed=whole.fixed and need.fixed, own=whole.own or need.own
        )
    return list(known.values())


def _filled(account: Account, other: Account) -> Account:
    if account.user and account.user != other.user and other.user:
        return account
    return Account(
        account.user or other.user,
        account.password if not is_placeholder(account.password) or not other.password else other.password,
        account.database or other.database,
    )
