"""Secrets that are the project's own to make, in the form that its framework or its code demands."""

from __future__ import annotations

import base64
import re
import secrets
import string
import uuid
from collections.abc import Collection, Sequence

from plainfall.clone.frameworks import Form
from plainfall.ecosystems.frameworks import every_traits
from plainfall.sources.values import Use

__all__ = ["Form", "form_of", "generated", "form_of_framework"]

_LISTS = {"APP_KEYS": Form("list", 16, "", "a list of keys")}
# Characters that need no quotes in a dotenv file and no escape in a shell.
_SAFE = string.ascii_letters + string.digits + "-_"
_WITH_SIGNS = string.ascii_lowercase + string.digits + "!@%^&*(-_=+)"


def form_of(key: str, value: str, comment: str, uses: Sequence[Use], frameworks: Collection[str]) -> Form:
    """The form of a secret: what the code does with it, then what the comment says, then what the framework
    wants under this name, else 64 safe characters."""
    prefix = _prefix(value)
    for use in uses:
        where = str(use.place)
        if use.form == "fernet":
            return Form("fernet", 44, "", where)
        if use.form == "hex":
            return Form("hex", use.length or 64, prefix, where)
        if use.form == "base64":
            return Form("base64", use.length or 32, prefix, where)
    told = _told(comment)
    demand = next((use for use in uses if use.length), None)
    framework = form_of_framework(key.upper(), value, {name.lower() for name in frameworks})
    form = told or framework or Form(prefix=prefix)
    if demand is None or form.encoding not in ("safe", "signs", "hex"):
        return form
    if demand.exact or demand.length > form.length:
        form = Form(form.encoding, demand.length, "" if demand.exact else form.prefix, str(demand.place))
    return form


def _prefix(value: str) -> str:
    """What stands before the placeholder in an example such as ``rgk_xxxxxxxx``."""
    match = re.match(
        r"^([A-Za-z]{2,10}[_-](?:(?:dev|test|live)[_-])?)(?:x{4,}|X{4,}|\*{3,}|\.{3}|<[^>]*>|0{6,}|1234\d*)$",
        value,
    )
    return match.group(1) if match else ""


def _told(comment: str) -> Form | None:
    for pattern, encoding, factor in (
        (r"rand -hex (\d+)", "hex", 2),
        (r"rand -base64 (\d+)", "base64", 1),
        (r"token_hex\((\d+)\)", "hex", 2),
        (r"randomBytes\((\d+)\)\.toString\(['\"]hex", "hex", 2),
        (r"randomBytes\((\d+)\)\.toString\(['\"]base64", "base64", 1),
        (r"SecureRandom\.hex\((\d+)\)", "hex", 2),
        (r"(\d+)[- ](?:random )?(?:hex|hexadecimal)\b(?! bytes)", "hex", 1),
        (r"(\d+)[- ](?:random )?bytes?[^.]*\bhex", "hex", 2),
        (r"(\d+)[- ](?:random )?bytes?[^.]*\bbase64|base64[^.]*?(\d+)[- ]bytes?", "base64", 1),
        (r"(\d+)[- ](?:random )?(?:characters?|chars?|letters)\b", "safe", 1),
    ):
        match = re.search(pattern, comment, re.IGNORECASE)
        if match:
            number = next(int(group) for group in match.groups() if group)
            if 8 <= number * factor <= 1024:
                length = number * factor
                at_least = re.search(r"at least|minimum|or more|≥", comment, re.IGNORECASE)
                if encoding == "safe" and at_least:
                    length = max(length, 64)
                return Form(encoding, length, "", "its comment")
    if re.search(r"Fernet", comment):
        return Form("fernet", 44, "", "its comment")
    if re.search(r"\buuid\b", comment, re.IGNORECASE):
        return Form("uuid", 36, "", "its comment")
    if re.search(r"token_urlsafe", comment):
        return Form("safe", 64, "", "its comment")
    return None


def form_of_framework(key: str, value: str, frameworks: Collection[str]) -> Form | None:
    """The form that a recognised framework wants a key's secret to have; None for a key that is none of its."""
    for traits in every_traits():
        known = any(name.lower() in frameworks for name in traits.names)
        for secret in traits.secrets:
            shaped = bool(secret.form.prefix) and value.startswith(secret.form.prefix)
            if key in secret.keys and (known or secret.by_name_alone or shaped):
                return secret.form
    return _LISTS.get(key)


def generated(form: Form) -> str:
    """A new secret of that form, from the system's generator."""
    if form.encoding == "fernet":
        return base64.urlsafe_b64encode(secrets.token_bytes(32)).decode()
    if form.encoding == "uuid":
        return str(uuid.uuid4())
    if form.encoding == "list":
        keys = (base64.b64encode(secrets.token_bytes(form.length)).decode() for _ in range(4))
        return ",".join(keys)
    if form.encoding == "base64":
        return form.prefix + base64.b64encode(secrets.token_bytes(form.length)).decode()
    if form.encoding == "hex":
        return form.prefix + secrets.token_hex((form.length + 1) // 2)[: form.length]
    alphabet = _WITH_SIGNS if form.encoding == "signs" else _SAFE
    return form.prefix + "".join(secrets.choice(alphabet) for _ in range(form.length))
