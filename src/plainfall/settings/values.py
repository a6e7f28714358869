"""What a setting's value is for: usable as it stands, to be generated, or known to a person only."""

from __future__ import annotations

import re
import secrets
from enum import Enum

__all__ = ["Kind", "generated_secret", "is_placeholder", "is_secret", "kind_of"]

_PLACEHOLDER = re.compile(
    r"^$|^(change|replace|edit|set|fill|put|insert|enter|add|generate)[\W_]?(me|this|it|in|your|here|a|one)\b.*"
    r"|^.*\b(your|my)[\W_]+\w+.*(key|secret|token|password|here)\b.*|^your[\W_].*|^.*[\W_]here$"
    r"|^<.*>$|^\[.*\]$|^\{\{.*\}\}$|^(x+|\*+|\.{3,}|0{6,}|a{4,})$|^(todo|tbd|none|null|placeholder|secret|password|"
    r"example|dummy|insecure.*|change.*|.*changeme.*|.*change[\W_]me.*)$",
    re.IGNORECASE,
)
_OWN_SECRET = re.compile(
    r"^((APP|DJANGO|FLASK|SESSION|COOKIE|JWT|AUTH|CSRF|SIGNING|TOKEN|WEB|API|SERVER|NEXTAUTH)_?)*"
    r"(SECRET(_KEY)?(_BASE)?|SIGNING_KEY|ENCRYPTION_KEY|SESSION_KEY|COOKIE_KEY|SALT|PEPPER|CSRF_KEY)$"
)
_SECRET = re.compile(
    r"SECRET|PASSWORD|PASSWD|PASSPHRASE|TOKEN|PRIVATE|CREDENTIAL|_KEY$|^KEY$|APIKEY|SALT|DSN$"
)
_CREDENTIAL = re.compile(
    r"(^|_)(API_?KEY|ACCESS_KEY(_ID)?|CLIENT_(ID|SECRET)|TOKEN|ACCOUNT_SID|DSN|WEBHOOK(_URL)?|KEY|SECRET|"
    r"SECRET_ACCESS_KEY|PASSWORD|LICEN[CS]E)$"
)
_OPTIONAL = re.compile(
    r"\boptional\b|\bnot (needed|required)\b|\bleave (it )?(empty|blank)\b|\bwithout it\b", re.I
)


class Kind(Enum):
    """What to do about a value."""

    USABLE = "usable"
    GENERATE = "generate"
    ASK = "ask"
    OPTIONAL = "optional"


def is_placeholder(value: str) -> bool:
    """Whether a template's value only holds the place of a real one."""
    return _PLACEHOLDER.match(value.strip()) is not None


def is_secret(key: str, value: str = "") -> bool:
    """Whether a value must not be shown: by its key, or because it is an address that holds a password."""
    return _SECRET.search(key.upper()) is not None or re.search(r"://[^/\s:@]*:[^/\s@]+@", value) is not None


def kind_of(key: str, value: str, comment: str) -> Kind:
    """What a template's entry wants. The project's own secrets are generated even over an example value
    that looks real: everyone who cloned the project knows that one."""
    name = key.upper()
    if _OWN_SECRET.match(name):
        return Kind.GENERATE
    if not is_placeholder(value):
        return Kind.USABLE
    if _OPTIONAL.search(comment):
        return Kind.OPTIONAL
    if value == "" and not _CREDENTIAL.search(name):
        return Kind.OPTIONAL
    return Kind.ASK


def generated_secret() -> str:
    """64 URL-safe characters from the system's generator: 384 bits, and no character that needs quotes."""
    return secrets.token_urlsafe(48)
