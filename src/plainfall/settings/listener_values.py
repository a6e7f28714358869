"""Values that hold where a server of the clone listens: ports, its own address, another part's, origins."""

from __future__ import annotations

import re
from collections.abc import Sequence

from msgspec import Struct
from msgspec.structs import replace

from plainfall.ecosystems.frameworks import every_traits
from plainfall.evidence import Evidence
from plainfall.formats.addresses import is_local, parse_address
from plainfall.formats.values import is_placeholder, plain_key
from plainfall.patterns import regex
from plainfall.settings.matching import Match

__all__ = ["Listener", "bind_value", "local_port", "match_listeners"]

_CLIENT_PREFIX = regex(
    "^("
    + "|".join(
        [*(one for traits in every_traits() for one in traits.client_prefixes), "GATSBY_", "EXPO_PUBLIC_"]
    )
    + ")"
)
_PREFIX = "|".join(one for traits in every_traits() for one in traits.prefixes)
_PORT = regex(rf"^({_PREFIX}|(APP|SERVER|HTTP|WEB|API|BACKEND|LISTEN|HTTP_SERVER|SERVICE)_)?PORT$")
_CLIENT_PORT = regex(r"^(CLIENT|FRONTEND|UI|WEBAPP|DASHBOARD)_PORT$")
_API = regex(
    r"^(?:\w+_)?(API|BACKEND|SERVER|GRAPHQL)(_BASE|_ROOT|_SERVER|_PUBLIC)?_?(URL|URI|ENDPOINT|ORIGIN|ADDRESS|HOST|BASE)$"
    r"|^(API|BACKEND)$|^API_BASE$"
)
_OWN = regex(
    r"^(APP|BASE|SITE|PUBLIC|NEXTAUTH|AUTH|ROOT|HOST|SELF|SERVER|SERVICE|BACKEND|API)(_BASE|_PUBLIC)?_(URL|URI|ADDRESS|ORIGIN)$|"
    r"^(URL|ORIGIN|DOMAIN_URL)$"
)
_CLIENT = regex(
    r"^(CLIENT|FRONTEND|FRONT_END|UI|WEB|WEBAPP|DASHBOARD|SPA)(_BASE|_APP|_PUBLIC)?_(URL|URI|ORIGIN|ADDRESS|HOST)$"
)
_ORIGINS = regex(
    r"^(?:\w+_)?(CORS(_\w+)?|ALLOWED?_ORIGINS?|TRUSTED_ORIGINS?|ALLOWED_CORS|ORIGIN_WHITELIST|CORS_ORIGINS?)$"
)
_HOSTS = regex(r"^(?:\w+_)?(ALLOWED_HOSTS?|TRUSTED_HOSTS?|HOSTS_ALLOWED)$")
_BIND = regex(r"^((APP|SERVER|HTTP|WEB|API|LISTEN|BIND)_)?(HOST|BIND|BIND_ADDRESS|LISTEN_ADDRESS)$")


class Listener(Struct, frozen=True):
    """A server of the clone: its part's folder, the port that was chosen for it, the line that the port
    comes from, whether it serves a client's pages (and not the interface that they call), and the port that the
    clone means for it."""

    part: str
    port: int
    place: Evidence
    client: bool
    meant: int = 0


def match_listeners(
    key: str, value: str, own: Listener | None, others: Sequence[Listener], written: str | None = None
) -> Match | None:
    """The value that a key must have for the ports that were chosen; None where the key is about none. Where its
    name does not tell which server is meant, who is meant to listen on the port of what the clone has ``written``
    (a template's value, a default; None: the value itself) does."""
    name = plain_key(key)
    bare = _CLIENT_PREFIX.sub("", name)
    for_client = (own is not None and own.client) or bare != name
    interfaces = [one for one in others if not one.client]
    interface = next(iter(interfaces), None)
    # A part at the top, or one named for it, is the interface itself; a secondary part calls that one.
    is_interface = own is not None and (own.part == "" or re.search(r"api|backend|server", own.part))
    if own is not None and not own.client and not for_client and (is_interface or len(interfaces) != 1):
        interface = own
    client = own if own is not None and own.client else next((one for one in others if one.client), None)
    if own is not None and _PORT.match(name):
        return _port(name, value, own)
    if client is not None and _CLIENT_PORT.match(name):
        return _port(name, value, client)
    if _HOSTS.match(name):
        return _hosts(value, own)
    if _ORIGINS.match(name):
        return _origins(value, client or (own if interface is own else None), own)
    if client is not None and client is not own and _CLIENT.match(bare):
        return _address(value, client)
    if _API.match(bare) and interface is not None and (interface is not own or _OWN.match(bare)):
        return _address(value, interface)
    if own is not None and _OWN.match(bare) and not (for_client and _API.match(bare)):
        return _address(value, own)
    named = local_port(value if written is None else written)
    meant = [one for one in (*others, *([own] if own else [])) if one.meant and one.meant == named]
    return _address(value, meant[0]) if len(meant) == 1 else None


def local_port(value: str) -> int | None:
    """The port of an address on this machine; None where a value is none, or names no port."""
    match = _LOCAL.fullmatch(value.strip())
    return int(match.group(1)) if match else None


_LOCAL = regex(r"(?:\w+://)?(?:localhost|127\.0\.0\.1|0\.0\.0\.0|\[::1\]):(\d{2,5})(?:/.*)?")


def _words(listener: Listener) -> str:
    return f"the server of {listener.part}" if listener.part else "the server"


def _port(name: str, value: str, listener: Listener) -> Match | None:
    if value.strip() == str(listener.port):
        return Match(value, listener.place, f"the port of {_words(listener)}")
    differs = (
        () if is_placeholder(value) or not value.isdigit() else (f"port {value} (there: {listener.port})",)
    )
    if value and not value.isdigit() and not is_placeholder(value):
        return None
    return Match(str(listener.port), listener.place, f"the port of {_words(listener)}", differs)


def _address(value: str, listener: Listener) -> Match | None:
    """The address with the port that was chosen; path, scheme and a local host stay."""
    what = f"where {_words(listener)} listens"
    if is_placeholder(value):
        return Match(f"http://localhost:{listener.port}", listener.place, what)
    bare = re.match(r"^([\w.-]+):(\d+)$", value)
    if bare and is_local(bare.group(1)):
        wanted = f"{bare.group(1)}:{listener.port}"
        text = (f"port {bare.group(2)} (there: {listener.port})",)
        return Match(wanted, listener.place, what, () if wanted == value else text)
    address = parse_address(value)
    if address is None or address.scheme not in ("http", "https", "ws", "wss"):
        return None
    if not is_local(address.host) and "." in address.host:
        return None  # an address on the network, which somebody chose
    host = address.host if is_local(address.host) else "localhost"
    right = replace(address, host="localhost" if host == "0.0.0.0" else host, port=listener.port)
    content = address.port or (443 if address.scheme in ("https", "wss") else 80)
    differs = (
        (f"port {content} (there: {listener.port})",)
        if address.port is not None and content != listener.port
        else ()
    )
    return Match(value if right == address else str(right), listener.place, what, differs)


def _origins(value: str, listener: Listener | None, own: Listener | None) -> Match | None:
    if listener is None or (value.strip() in ("*", "true", "false") and value.strip()):
        return None
    what = f"the origin of {_words(listener)}"
    wanted = f"http://localhost:{listener.port}"
    if is_placeholder(value):
        return Match(wanted, listener.place, what)
    brackets = value.strip().startswith("[")
    pieces = [piece.strip().strip("\"'") for piece in value.strip().strip("[]").split(",")]
    if not all(parse_address(piece) for piece in pieces if piece):
        return None
    kept, differs = [], []
    ports = {listener.port} | ({own.port} if own is not None else set())
    for piece in pieces:
        address = parse_address(piece)
        if address is not None and is_local(address.host) and address.port not in ports:
            differs.append(f"port {address.port} (there: {listener.port})")
            piece = str(replace(address, port=listener.port))
        if piece and piece not in kept:
            kept.append(piece)
    if not any(f":{listener.port}" in piece for piece in kept):
        kept.append(wanted)
        differs.append(f"no {wanted}")
    right = "[" + ",".join(f'"{piece}"' for piece in kept) + "]" if brackets else ",".join(kept)
    same = kept == [piece for piece in pieces if piece]
    return Match(value if same else right, listener.place, what, () if same else tuple(differs))


def _hosts(value: str, own: Listener | None) -> Match | None:
    place = own.place if own is not None else Evidence("(this machine)")
    if is_placeholder(value) and not value.strip().startswith("["):
        return Match("localhost,127.0.0.1", place, "the names that this machine answers to")
    if "*" in value or not re.fullmatch(r"[\w.,: \"'\[\]-]*", value):
        return None
    pieces = [
        piece.strip().strip("\"'") for piece in value.strip().strip("[]").split(",") if piece.strip(" \"'[]")
    ]
    lacking = [name for name in ("localhost", "127.0.0.1") if name not in pieces]
    if not lacking:
        return Match(value, place, "the names that this machine answers to")
    kept = [*pieces, *lacking]
    right = (
        "[" + ",".join(f'"{one}"' for one in kept) + "]" if value.strip().startswith("[") else ",".join(kept)
    )
    differs = () if any(name in pieces for name in ("localhost", "127.0.0.1")) else (f"no {lacking[0]}",)
    return Match(right, place, "the names that this machine answers to", differs)


def bind_value(key: str, value: str) -> str | None:
    """What a key that says where to listen should hold while developing: this machine only; None if it is no
    such key, or says so already."""
    if _BIND.match(plain_key(key)) and is_placeholder(value):
        return "127.0.0.1"
    return None
