"""Names that tell what a setting or a constant is for, whatever the language."""

from __future__ import annotations

import re

from plainfall.patterns import regex

__all__ = ["FILE_NAME", "IS_KEY", "constant_kind", "covered", "is_process_variable", "looks_secret"]

IS_KEY = regex(r"[A-Za-z_][A-Za-z0-9_.-]*")

# Names of files that may hold settings, as they stand in string literals; an ending alone is none.
FILE_NAME = regex(
    r"[\w./@~ -]*(?:\.?env(?:\.[\w.-]+)?|(?<=[\w~-])\.(?:env|ya?ml|toml|json|ini|cfg|conf|php|properties))$",
    re.IGNORECASE,
)

# What the system, the shell, a test or build runner sets by itself: no setting of the project.
_PROCESS = frozenset(
    "PATH HOME USER USERNAME LOGNAME SHELL PWD OLDPWD LANG LANGUAGE TZ TERM COLORTERM TMPDIR TEMP TMP EDITOR "
    "VISUAL PAGER DISPLAY HOSTNAME CI NO_COLOR FORCE_COLOR COLUMNS LINES PYTHONPATH PYTHONUNBUFFERED "
    "VIRTUAL_ENV NODE_PATH NODE_OPTIONS RUBYOPT RUBYLIB GEM_HOME BUNDLE_GEMFILE XDG_CONFIG_HOME "
    "XDG_CACHE_HOME XDG_DATA_HOME XDG_RUNTIME_DIR APPDATA LOCALAPPDATA USERPROFILE SYSTEMROOT SSH_AUTH_SOCK "
    "INIT_CWD REQUEST_METHOD REQUEST_URI SCRIPT_NAME SCRIPT_FILENAME SERVER_NAME SERVER_SOFTWARE "
    "DOCUMENT_ROOT REMOTE_ADDR PHP_SELF QUERY_STRING CONTENT_TYPE CONTENT_LENGTH argv argc".split()
)
_PROCESS_PREFIX = regex(
    r"^(npm_|HTTP_(?!PORT|HOST$|SERVER|TIMEOUT|PROXY|BASIC)|GITHUB_(?:ACTIONS?|REF|SHA|"
    r"WORKSPACE|RUN_|EVENT)|PYTEST_|JEST_|VITEST|LC_|DYNO$|REQUEST_TIME)"
)
# What a bundler defines for client code.
_BUILT_IN = frozenset("MODE DEV PROD SSR BASE_URL".split())


def is_process_variable(key: str, *, client: bool = False) -> bool:
    """Whether a variable is set by the system or a runner; ``client`` for one that a bundler fills in."""
    return key in _PROCESS or _PROCESS_PREFIX.match(key) is not None or (client and key in _BUILT_IN)


_PORT = regex(r"(^|_)PORT$")
_HOST = regex(r"(^|_)(HOST|HOSTNAME|IP|IP_ADDR|IP_ADDRESS|SERVER_NAME|BIND|BIND_ADDRESS)$")
_DEVICE = regex(r"(^|_)(DEVICE|DEV|SERIAL|SERIAL_PORT|TTY|DEVICE_PATH|COM_PORT|PORT)$")
_ADDRESS = regex(
    r"(^|_)(URL|URI|ADDR|ADDRESS|ENDPOINT|BASE_URL|API|API_URL|SERVER|BROKER|BACKEND|ORIGIN|DSN)$"
)
_IPV4 = regex(r"\d{1,3}(\.\d{1,3}){3}$")
_HOST_VALUE = regex(r"[A-Za-z0-9](?:[A-Za-z0-9-]*[A-Za-z0-9])?(?:\.[A-Za-z0-9-]+)*$")


def constant_kind(name: str, value: str | int) -> str:
    """ "host", "port", "address" or "device" for a constant of this name and value; "" for any other."""
    words = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", name).upper()
    if isinstance(value, int):
        return "port" if _PORT.search(words) and 0 < value < 65_536 else ""
    if _PORT.search(words) and value.isdigit() and 0 < int(value) < 65_536:
        return "port"
    if (_DEVICE.search(words) or _ADDRESS.search(words)) and re.match(r"/dev/\w|COM\d+$", value):
        return "device"
    local = re.match(r"(localhost|.*\.(local|lan|internal|example|test))$", value)
    if _HOST.search(words) and (_IPV4.match(value) or local or value in ("::", "::1")):
        return "host"
    if _HOST.search(words) and _HOST_VALUE.match(value) and "." in value:
        return "host"
    if _ADDRESS.search(words):
        if re.match(r"[a-z][a-z0-9+.-]*://[^\s/]+", value):
            return "address"
        if re.match(r"(\d{1,3}(\.\d{1,3}){3}|localhost)(:\d+)?$", value):
            return "address"
        if re.match(r"([0-9A-F]{2}:){5}[0-9A-F]{2}$", value, re.IGNORECASE):
            return "device"
    return ""


def looks_secret(key: str) -> bool:
    """Whether the default that code gives a key may be a secret, and is not to be shown."""
    return (
        re.search(r"SECRET|PASSW|TOKEN|PRIVATE|CREDENTIAL|(^|_)(KEY|PASS|PWD|SALT|DSN)$", key.upper())
        is not None
    )


def covered(text: str, default: str | None) -> str:
    """A source line with a literal that may be a secret covered."""
    return text.replace(default, "••••••") if default and len(default) > 2 else text
