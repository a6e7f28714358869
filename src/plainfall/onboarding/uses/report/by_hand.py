"""The equivalent commands that a person would type: a shell script that brings a fresh clone up without
Plainfall."""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from msgspec import Struct

from plainfall.clone.parts import PartFound
from plainfall.ecosystems import language_named
from plainfall.ecosystems.shape import HandInstall
from plainfall.formats.documents import read_document
from plainfall.kept_records import Installed
from plainfall.onboarding.part.decisions import Decisions, decisions_of
from plainfall.onboarding.records.state import FOLDER, CloneState
from plainfall.settings.setting import Setting
from plainfall.settings.unit_settings import Settled

__all__ = ["HandPart", "commands_by_hand", "script_by_hand"]

_PLAIN = re.compile(r"[A-Za-z_]\w*")
_HEX, _FERNET = re.compile(r"[0-9a-f]{16,}"), re.compile(r"[\w-]{43}=")
_UUID = re.compile(r"[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}")
_BASE64 = re.compile(r"(base64:)?([A-Za-z0-9+/]{20,}={0,2})")
_OURS = re.compile(rf" ?(?:\.\./){{0,20}}{re.escape(FOLDER)}/\S+")
_STAGES = ("dependencies", "migrations", "seeds", "tasks")
_HEAD = """\
#!/bin/sh
# How {name} is got running by hand, from a fresh clone: what Plainfall did in its run of {at}.
# Run it in the clone's folder. It ends at the first command that fails; the servers end with it (Ctrl-C).
set -eu
random() {{ head -c "$1" /dev/urandom | base64 | tr -d '\\n'; }}
hex() {{ od -An -v -N"$1" -tx1 /dev/urandom | tr -d ' \\n'; }}
letters() {{ random $(($1 * 2)) | tr -d '+/=' | cut -c1-"$1"; }}
started=$(mktemp)
serve() {{
  if command -v setsid > /dev/null; then setsid sh -c "$1" & else sh -c "$1" & fi
  echo $! >> "$started"
}}
ended() {{
  for one in $(cat "$started"); do kill -- "-$one" 2> /dev/null || kill "$one" 2> /dev/null || :; done
  rm -f "$started"
}}
trap ended EXIT
trap 'exit 130' INT TERM
"""


class HandPart(Struct, frozen=True):
    """What is known of a part that was brought up: its settings, the row of each of its steps as it was carried
    out, by stage, its server's record, the interpreter's version and file."""

    part: PartFound
    settled: Sequence[Settled]
    steps: Mapping[str, Mapping[str, Any]]
    server: Mapping[str, Any] | None
    version: str
    program: str


def script_by_hand(name: str, at: str, parts: Sequence[HandPart], state: CloneState) -> str:
    """The script's text: parts in the order in which they were brought up. No secret is in it: where one was
    made, the script makes another; where the person gave one, it asks for it."""
    shared: dict[str, str] = {}
    pieces = [_HEAD.format(name=_comment(name), at=at)]
    for one in parts:
        title = _title(one.part)
        rows = [f"# {_comment(one.part.key) or 'the top'}: {title} {one.version}", "("]
        rows += [f"cd {shlex.quote(one.part.path)}"] if one.part.path else []
        rows += [
            *_install(one, state),
            *_settings(one, shared),
            *_variables(one, state),
            *_folders(one, state),
        ]
        rows += _services(one)
        for stage in _STAGES:
            rows += _commands(one, stage)
        if one.server is not None:
            address = f"{one.part.key or state.clone.name}: {one.server.get('url', '')}"
            rows.append(f"export PORT={int(one.server.get('port', 0))}")
            rows += [f"echo {shlex.quote(address)}", f"serve {shlex.quote(_server_line(one))}"]
        pieces.append("\n".join([*rows, ")", ""]))
    if any(one.server is not None for one in parts):
        pieces.append("while :; do sleep 60 & wait $!; done")
    return "\n".join(pieces) + "\n"


def commands_by_hand(one: HandPart, state: CloneState) -> list[str]:
    """A part's commands in short, for people: the settings file is copied, and what to set in it is said."""
    rows = [f"cd {shlex.quote(one.part.path)}"] if one.part.path else []
    rows += _install(one, state)
    for settled in one.settled:
        for file in settled.files:
            own = [each for each in settled.settings if each.file == file.file.target and each.written]
            if file.file.template_path:
                paths = (
                    _from_part(path, one.part.path) for path in (file.file.template_path, file.file.target)
                )
                rows.append(f"cp {shlex.join(paths)}")
            changed = [
                each.key for each in own if each.origin not in ("template", "there already", "optional")
            ]
            if changed:
                rows.append(f"# in {_comment(file.file.target)} set: {_comment(', '.join(changed))}")
    rows += _folders(one, state)
    rows += [*_services(one), *(line for stage in _STAGES for line in _commands(one, stage))]
    port = str((one.server or {}).get("port", ""))
    line = re.sub(r"\$\{PORT[^}]*\}|\$PORT\b", port, _server_line(one))
    return [*rows, *([line] if one.server is not None else [])]


def _server_line(one: HandPart) -> str:
    return _OURS.sub("", str((one.server or {}).get("command", "")))


def _comment(text: str) -> str:
    return re.sub(r"[^\x20-\x7e]", "?", text)[:200]


def _title(part: PartFound) -> str:
    language = language_named(part.language)
    return language.title if language is not None else part.language


def _install(one: HandPart, state: CloneState) -> list[str]:
    part, record = one.part, state.read(one.part.key, Installed)
    language = language_named(part.language)
    if language is None:
        return []
    folder = state.clone / part.path
    decisions = decisions_of(state, part.key) or Decisions()
    extras = tuple(dict.fromkeys((*record.extras, *decisions.extras)))
    install = HandInstall(
        one.version,
        one.program,
        part.dependencies,
        record.names,
        extras,
        tuple(dict.fromkeys((*record.groups, *decisions.groups))),
        record.allowed,
        folder,
    )
    return language.by_hand(install)


def _folders(one: HandPart, state: CloneState) -> Iterator[str]:
    """Folders of the part that were made since something writes in them."""
    for path, row in state.made.items():
        inside = not one.part.path or path.startswith(f"{one.part.path}/")
        if row.kind == "folder" and inside and not path.startswith("/"):
            yield f"mkdir -p {shlex.quote(_from_part(path, one.part.path))}"


def _variables(one: HandPart, state: CloneState) -> Iterator[str]:
    for key, value in one.part.variables.items():
        yield f"export {key}={shlex.quote(value)}"
    decisions = decisions_of(state, one.part.key) or Decisions()
    for key, value in decisions.variables:
        yield f"export {key}={shlex.quote(value)}"
    if decisions.secret_key:
        yield 'SECRET_KEY="$(letters 50)"; FLASK_SECRET_KEY="$SECRET_KEY"; export SECRET_KEY FLASK_SECRET_KEY'
    if decisions.development_mode:
        yield "# its settings are those for production; Plainfall runs it with a module of its own instead"


def _commands(one: HandPart, stage: str) -> list[str]:
    """The command lines that a stage ran, as they were; none where it did not."""
    row = one.steps.get(stage)
    if row is None or row.get("state") != "done":
        return []
    if stage in ("migrations", "seeds"):
        line = str(row.get("detail", {}).get("command") or "")
        return [line] if line else []
    found = [command.line for command in one.part.candidates(stage)]
    if stage == "tasks":
        for framework in one.part.frameworks:
            account = framework.administrator
            if account is not None:
                more = {
                    account.email_variable: "admin@localhost.invalid",
                    **account.more,
                    account.name_variable: account.name,
                }
                given = " ".join(f"{key}={shlex.quote(value)}" for key, value in more.items())
                found.append('password="$(letters 16)"; echo "the administrator\'s password: $password"')
                found.append(f'{given} {account.password_variable}="$password" {account.command}')
    return found


def _services(one: HandPart) -> Iterator[str]:
    row = one.steps.get("services")
    for service in row.get("detail", {}).get("services", ()) if row is not None else ():
        if service["state"] == "lacking":
            continue
        where = f"a server ({service['kind']}) must answer on port {service['port']}"
        yield f"# {where}, and let in whom the settings name"


def _settings(one: HandPart, shared: dict[str, str]) -> Iterator[str]:
    """The variables of the settings, and the files with them."""
    for settled in one.settled:
        for file in settled.files:
            own = [each for each in settled.settings if each.file == file.file.target and each.written]
            if not (file.text or file.file.current is not None):
                continue
            target = _from_part(file.file.target, one.part.path)
            if file.file.kind != "dotenv":
                if file.file.template_path:
                    template = _from_part(file.file.template_path, one.part.path)
                    yield f"cp {shlex.quote(template)} {shlex.quote(target)}"
                    changed = [each.key for each in own if each.origin not in ("template", "there already")]
                    if changed:
                        yield f"# in {_comment(target)} set: {_comment(', '.join(changed))}"
                continue
            text = file.file.current.text if file.file.current is not None else file.text
            values = {entry.key: entry.value for entry in read_document("dotenv", text, target).entries}
            keys = [each for each in own if _PLAIN.fullmatch(each.key) and each.key in values]
            for each in keys:
                word = _value(each, values[each.key], file.file.template_path, one.part.path, shared)
                yield f"{each.key}={word}"
            if keys:
                yield f"export {' '.join(each.key for each in keys)}"
                yield f"cat > {shlex.quote(target)} <<END"
                yield from (f"{each.key}={_quoted(each, values[each.key])}" for each in keys)
                yield "END"
                yield f"chmod 600 {shlex.quote(target)}"


def _quoted(setting: Setting, value: str) -> str:
    """The variable as it stands in the file: quoted where its text would not be read as it is."""
    plain = setting.secret or re.fullmatch(r"[\w./:@%+,=-]*", value)
    return f"${setting.key}" if plain else f'"${{{setting.key}}}"'


def _from_part(path: str, folder: str) -> str:
    return path.removeprefix(f"{folder}/") if folder else path


def _value(setting: Setting, value: str, template: str, folder: str, shared: dict[str, str]) -> str:
    """A word of the shell that comes to the value, or to another secret of the same form."""
    if not setting.secret or not value:
        return shlex.quote(value)
    if value in shared:
        return f'"${shared[value]}"'
    shared[value] = setting.key
    if setting.origin == "template" and template:
        pattern = shlex.quote(f"s/^{setting.key}=//p")
        return f'"$(sed -n {pattern} {shlex.quote(_from_part(template, folder))})"'
    if setting.origin in ("generated", "matched"):
        return f'"$({_generator(value)})"'
    return f'"${{{setting.key}:?give your own value for {setting.key}}}"'


def _generator(value: str) -> str:
    """A command that prints a new secret of the form that a value has."""
    if _UUID.fullmatch(value):
        return "cat /proc/sys/kernel/random/uuid"
    if _HEX.fullmatch(value):
        return f"hex {len(value) // 2}"
    if _FERNET.fullmatch(value):
        return "random 32 | tr '+/' '-_'"
    match = _BASE64.fullmatch(value)
    if match and (match.group(1) or match.group(2).endswith("=")):
        size = len(match.group(2)) * 3 // 4 - match.group(2).count("=")
        return f"echo {match.group(1) or ''}$(random {size})"
    if "," in value and all(_BASE64.fullmatch(piece) for piece in value.split(",")):
        pieces = ",".join("$(random 16)" for _ in value.split(","))
        return f"echo {pieces}"
    return f"letters {max(len(value), 8)}"
