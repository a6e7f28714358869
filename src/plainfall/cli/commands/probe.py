"""``plainfall probe``: ask what runs."""

from __future__ import annotations

import argparse
import json
from pathlib import Path

from plainfall.cli.console import Console
from plainfall.onboarding.servers import ServerLook, probe_servers

__all__ = ["run"]


def run(options: argparse.Namespace, console: Console) -> int:
    """Probes each recorded server; 1 if none runs or one is not well."""
    looks = probe_servers(Path(options.clone).absolute())
    well = bool(looks) and all(look.probe and not look.probe.problem for look in looks)
    if console.json:
        document = {"outcome": "done" if well else "failed", "servers": [look.as_json() for look in looks]}
        console.result(json.dumps(document, indent=2, ensure_ascii=False))
        return 0 if well else 1
    if not looks:
        console.result("no dev server of this clone runs; start it with: plainfall onboard")
    for look in looks:
        _show(console, look)
    return 0 if well else 1


def _show(console: Console, look: ServerLook) -> None:
    name = look.part or "."
    probe = look.probe
    if probe is None:
        console.result(f"{console.styled('ended', 'bad', out=True)}  {name}: {look.command}")
        console.result("       its processes are gone; start it again with: plainfall onboard")
        return
    state = (
        console.styled("bad", "bad", out=True) if probe.problem else console.styled("good", "good", out=True)
    )
    title = f'  "{probe.title}"' if probe.title else ""
    console.result(f"{state}  {probe.url}  {probe.status or 'no answer'}{title}")
    console.result(
        f"      {probe.size:,} bytes of {probe.media_type or '?'}, first byte after "
        f"{probe.first_byte * 1000:.0f} ms, process {look.pid}"
    )
    for url, status, _ in probe.assets:
        style = "dim" if 0 < status < 400 else "bad"
        console.result(console.styled(f"      {status or 'no answer'}  {url}", style, out=True))
    if probe.problem:
        console.result(console.wrapped(probe.problem, 6, "      "))
        console.result(f"      log {console.shown_path(look.log)}")
