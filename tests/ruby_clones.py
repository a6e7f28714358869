"""Ruby clones for tests: a page on made-up packages, with the lock that a registry's packages come to."""

from __future__ import annotations

import shutil
import subprocess
from collections.abc import Mapping, Sequence

from plainfall.standins.ruby_registry import Gem, gem, ruby_lock

__all__ = ["AMOUNTS", "EVERY", "HAS_RUBY", "PAGE", "SHEET", "TOOL", "clone_files", "manifest"]

RUBY = shutil.which("ruby")
HAS_RUBY = (
    RUBY is not None
    and not subprocess.run([RUBY, "-e", "require 'bundler'"], capture_output=True, check=False).returncode
)

AMOUNTS = gem("pluvial-amounts", "1.2.0", {
    "lib/pluvial_amounts.rb": 'module PluvialAmounts; def self.words(n) = "#{n} mm"; end\n'})  # fmt: skip
SHEET = gem(
    "hollin-sheet",
    "0.4.1",
    {"lib/hollin_sheet.rb": "require 'pluvial_amounts'\nmodule HollinSheet; def self.title = 'Rain'; end\n"},
    {"pluvial-amounts": "~> 1.0"},
)
TOOL = gem(
    "hollin-tool",
    "3.0.0",
    {
        "bin/gauge-tool": "#!/usr/bin/env ruby\nrequire 'pluvial_amounts'\nputs PluvialAmounts.words(ARGV[0])\n"
    },
    {"pluvial-amounts": ">= 1"},
    programs=["gauge-tool"],
)
EVERY = [AMOUNTS, SHEET, TOOL]
PAGE = """\
require 'bundler/setup'
require 'socket'
require 'hollin_sheet'
server = TCPServer.new('127.0.0.1', (ENV['PORT'] || 4567).to_i)
body = "<!doctype html><title>#{HollinSheet.title}</title>#{PluvialAmounts.words(4)}"
loop do
  client = server.accept
  client.gets
  client.write "HTTP/1.0 200 OK\\r\\nContent-Type: text/html\\r\\nContent-Length: #{body.bytesize}\\r\\n\\r\\n#{body}"
  client.close
end
"""


def manifest(registry: str, wishes: Mapping[str, str], more: str = "") -> str:
    """A manifest that asks for these packages."""
    lines = [f'source "{registry}"']
    for name, rule in wishes.items():
        lines.append(
            f'gem "{name}"' + "".join(f', "{one.strip()}"' for one in rule.split(",") if one.strip())
        )
    return "\n".join([*lines, more, ""])


def clone_files(
    gems: Sequence[Gem],
    registry: str,
    *,
    more: str = "",
    page: str = PAGE,
    checksums: bool = False,
    systems: Sequence[str] = ("ruby",),
) -> dict[str, str]:
    """A page, the manifest (it asks for every package; ``more`` are further lines of it), and the lock."""
    wishes = {one.name: "" for one in gems}
    lock = ruby_lock(gems, registry, wishes, checksums=checksums, systems=systems)
    return {"app.rb": page, "Gemfile": manifest(registry, wishes, more), "Gemfile.lock": lock}
