"""What a setting's value is for: usable as it stands, to be generated, or known to a person only."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from enum import Enum

from plainfall.patterns import regex
from plainfall.sources.values import Use

__all__ = [
    "Kind",
    "development_value",
    "is_placeholder",
    "is_secret",
    "kind_of",
    "plain_key",
    "says_optional",
    "shown_value",
]

_PLACEHOLDER = regex(
    r"^$|^(change|replace|edit|set|fill|put|insert|enter|add|generate)[\W_]?(me|this|it|in|your|here|a|one)\b.*"
    r"|^.*\b(your|my)[\W_]+\w+.*(key|secret|token|password|here|id)\b.*|^your[\W_].*|^.*[\W_]here$"
    r"|^<.*>$|^\[[\w\s-]*\]$|^\{\{.*\}\}$|^%\w+%$|^__\w+__$|^(x{3,}|\*{3,}|\.{3,}|-+|\?+|0{6,}|a{4,})$"
    r"|^[a-z]{2,10}[_-](?:(?:dev|test|live)[_-])?(x{4,}|\*{3,}|\.{3})$|^x{3,}[-_.x]*$"
    r"|^(todo|tbd|none|null|nil|placeholder|secret|password|(my|some|a)[\W_]?(secret|password|key|token)|"
    r"example|dummy|insecure.*|change.*|replace.*|.*changeme.*|.*change[\W_]me.*|.*change[\W_](this|it).*|.*replace[\W_](me|this|with).*)$",
    re.IGNORECASE,
)
_OWN = (
    "APP APPLICATION DJANGO FLASK SESSION SESSIONS COOKIE COOKIES JWT AUTH CSRF SIGNING TOKEN WEB API SERVER "
    "NEXTAUTH RAILS LARAVEL SYMFONY ACCESS REFRESH HASH ENCRYPTION INTERNAL MASTER ADMIN EXPRESS PASSWORD "
    "TRANSFER WEBHOOK SITE BACKEND KEY PRIVATE DATA FIELD EMAIL VERIFICATION RESET INVITE"
).split()
_OWN_SECRET = regex(
    rf"^(({'|'.join(_OWN)})_?)*(SECRET(_KEY)?(_BASE)?|SIGNING_KEY|ENCRYPTION_KEY|SESSION_KEY|COOKIE_KEY|"
    r"(API_)?TOKEN_SALT|SALT|PEPPER|CSRF_KEY|FERNET_KEY|APP_KEYS?|HMAC_KEY|CIPHER_KEY)$"
)
_SECRET = regex(
    r"SECRET|PASSWORD|PASSWD|PASSPHRASE|TOKEN(?!S?_(COUNT|LIMIT|TTL|EXPIR|LIFETIME|URL|TYPE|NAME|HEADER|ISSUER|ALG))|"
    r"PRIVATE|CREDENTIAL|_KEYS?$|^KEYS?$|APIKEY|SALT|PEPPER|DSN$|(^|_)PASS$|(^|_)PWD$|WEBHOOK_URL$"
)
_NO_SECRET = regex(
    r"(^|_)(PUBLIC|PUBLISHABLE)_|_KEY_(ID|NAME|PATH|FILE)$|(SECRET|TOKEN|KEY|PASSWORD)_(FILE|PATH|LENGTH|NAME)$"
)
_CREDENTIAL = regex(
    r"(^|_)(API_?KEY|ACCESS_KEY(_ID)?|CLIENT_(ID|SECRET)|TOKEN|ACCOUNT_(S?ID)|APP_ID|PROJECT_ID|DSN|WEBHOOK(_URL)?|"
    r"KEY|SECRET|SECRET_(ACCESS_)?KEY|PASSWORD|PASS|LICEN[CS]E|PUBLIC_KEY|PRIVATE_KEY|TENANT(_ID)?|BUCKET)$"
)
_OPTIONAL = regex(
    r"\boptional(ly)?\b|\bnot (needed|required)\b|\bleave (it |this )?(empty|blank|unset)\b|\bwithout it\b|"
    r"\bonly (needed|required|used) (if|when|for)\b|\bin production only\b|\bif you (want|use|need)\b",
    re.IGNORECASE,
)
_COMMENT_GENERATES = regex(
    r"rand -(hex|base64)|token_(hex|urlsafe)|randomBytes|generate_key|SecureRandom|key:generate|"
    r"\brandom (string|value|text|key|secret)|\blong random\b|\bgenerate (a|one|with|it|your own)\b",
    re.IGNORECASE,
)
_MODE = regex(r"^(?:\w+_)?(ENV|ENVIRONMENT|MODE|STAGE|PROFILE)$")


class Kind(Enum):
    """What to do about a value."""

    USABLE = "usable"
    GENERATE = "generate"
    ASK = "ask"
    OPTIONAL = "optional"


def is_mode(key: str) -> bool:
    """Whether a key says in which mode the program runs."""
    return _MODE.match(plain_key(key)) is not None


def says_optional(comment: str) -> bool:
    """Whether a comment says that a value may be left out."""
    return _OPTIONAL.search(comment) is not None


def plain_key(key: str) -> str:
    """A key of any kind of file as the name of a variable would be: ``database.host`` → ``DATABASE_HOST``."""
    spaced = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", key)
    return re.sub(r"[.\-\s\[\]]+", "_", spaced).strip("_").upper()


def is_placeholder(value: str) -> bool:
    """Whether a template's value only holds the place of a real one."""
    return _PLACEHOLDER.match(value.strip()) is not None


def is_secret(key: str, value: str = "") -> bool:
    """Whether a value must not be shown: by its key, or because it is an address that holds a password."""
    name = plain_key(key)
    if re.search(r"://[^/\s:@]*:[^/\s@]+@", value):
        return True
    return _SECRET.search(name) is not None and _NO_SECRET.search(name) is None


def shown_value(value: str, secret: bool) -> str:
    """A value as people see it: a secret covered, of an address with a password only that."""
    if not secret:
        return value
    match = re.match(r"^([a-z][\w+.-]*://[^/\s:@]*:)[^/\s@]+(@.*)$", value, re.IGNORECASE)
    return f"{match.group(1)}••••••{match.group(2)}" if match else "••••••"


def kind_of(
    key: str, value: str, comment: str, uses: Sequence[Use] = (), own_prefixes: Collection[str] = ()
) -> Kind:
    """What an entry wants. The project's own secrets are generated even over an example value that looks
    real: everyone who cloned the project knows that one. ``own_prefixes`` are names before a key that are
    the project's own."""
    name = plain_key(key)
    bare = next((name[len(own) + 1 :] for own in own_prefixes if own and name.startswith(f"{own}_")), name)
    document = (
        re.sub(r"^.*_(?=(SECRET_KEY(_BASE)?|SECRET|SIGNING_KEY|ENCRYPTION_KEY)$)", "", bare)
        if "." in key
        else bare
    )
    if any(_OWN_SECRET.match(one) for one in (name, bare, document)):
        return Kind.GENERATE
    if any(use.form for use in uses):
        return Kind.GENERATE
    if not is_placeholder(value):
        return Kind.USABLE
    secret = is_secret(key) or any(use.secret for use in uses)
    if secret and _COMMENT_GENERATES.search(comment) and not re.search(r"https?://", comment):
        return Kind.GENERATE
    if says_optional(comment):
        return Kind.OPTIONAL
    if value == "" and not _CREDENTIAL.search(name):
        return Kind.OPTIONAL
    return Kind.ASK


def development_value(key: str, types: Collection[str], own: Mapping[str, str]) -> str | None:
    """A sensible value while developing for a key that nobody gave one: what the part's framework wants
    (``own``, by key), a mode, a switch, a common number; None where there is no such thing."""
    name = plain_key(key)
    if name in own:
        return own[name]
    if is_mode(key):
        return "development"
    if re.search(r"(^|_)DEBUG$", name):
        return "true"
    if re.search(r"(^|_)LOG_?LEVEL$", name):
        return "info"
    if "boolean" in types and re.search(
        r"(SSL|TLS|SECURE|HTTPS|CACHE|SENTRY|TELEMETRY|ANALYTICS|EMAILS?)", name
    ):
        return "false"
    if "number" not in types:
        return None
    for pattern, value in (
        (r"TIMEOUT(_SECONDS)?$", "30"),
        (r"(WORKERS|CONCURRENCY|THREADS|PROCESSES)$", "2"),
        (r"(POOL_SIZE|POOL)$", "5"),
        (r"(INTERVAL|PERIOD)(_SECONDS)?$", "60"),
        (r"(RETRIES|ATTEMPTS|MAX_RETRIES)$", "3"),
        (r"(PAGE_SIZE|PER_PAGE|LIMIT)$", "20"),
        (r"(TTL|EXPIRY|EXPIRES(_IN)?|LIFETIME|MAX_AGE)(_SECONDS)?$", "3600"),
        (r"(ROUNDS|SALT_ROUNDS)$", "10"),
    ):
        if re.search(pattern, name):
            return value
    return None


def folder_inside(key: str, value: str, folder: str) -> str | None:
    """A value that leads to a folder of a server in production, in a ``folder`` of the clone instead; None for any
    other value. What is only read there (programs, certificates, devices) stays.

    >>> folder_inside("UPLOAD_DIR", "/var/lib/gauges/uploads", ".plainfall/folder")
    '.plainfall/folder/uploads'
    >>> folder_inside("DATABASE_URL", "sqlite:////data/gauges.db", ".plainfall/folder")
    'sqlite:///.plainfall/folder/gauges.db'
    >>> folder_inside("CHROME_BIN", "/opt/chrome/chrome", ".plainfall/folder") is None
    True
    >>> folder_inside("API_PATH", "/var", ".plainfall/folder") is None
    True
    """
    match = _OF_A_SERVER.fullmatch(value.strip())
    if match is None or _ONLY_READ.search(plain_key(key)):
        return None
    if not match.group("scheme") and not _WRITTEN_TO.search(plain_key(key)):
        return None
    name = match.group("path").rstrip("/").rpartition("/")[2]
    return f"{'sqlite:///' if match.group('scheme') else ''}{folder}/{name}"


_OF_A_SERVER = regex(
    r"(?P<scheme>sqlite:///)?(?P<path>/(?:var|srv|opt|data|mnt|media|storage|app|home|root|run|logs?|usr/share|usr/local)"
    r"(?:/[\w.@-]+)+/?)"
)
_WRITTEN_TO = regex(
    r"(^|_)(DIR|DIRECTORY|FOLDER|PATH|ROOT|HOME|STORAGE|UPLOADS?|MEDIA|LOGS?|LOGFILE|FILE|FILENAME|DATA|CACHE|BACKUPS?|"
    r"STATE|SPOOL|OUTPUT|WORKDIR|TMP|TEMP|DB|DATABASE|SQLITE)(_|$)"
)
_ONLY_READ = regex(
    r"(^|_)(BIN|BINARY|EXECUTABLE|COMMAND|CMD|CERTS?|CERTIFICATES?|CA|KEY|SOCK|SOCKET|DEVICE|TTY|PORT)(_|$)"
)
