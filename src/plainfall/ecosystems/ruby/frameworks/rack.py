"""Applications on Rack: ``config.ru``, by the server that the part has; and scripts that start one themselves."""

from __future__ import annotations

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import FrameworkFound
from plainfall.clone.walk import Tree
from plainfall.ecosystems.ruby.recognise.recognising import RubyRecognising
from plainfall.ecosystems.shared.version_files import within
from plainfall.evidence import Evidence

__all__ = ["recognise"]

ORDER = 40
ALONE = True
_RANK = 50
_ADDRESS = "127.0.0.1"
_PORT = "${PORT:-9292}"
_SERVERS = {
    "puma": f"bundle exec puma -b tcp://{_ADDRESS}:{_PORT} config.ru",
    "falcon": f"bundle exec falcon serve --bind http://{_ADDRESS}:{_PORT}",
    "thin": f"bundle exec thin -a {_ADDRESS} -p {_PORT} -R config.ru start",
    "unicorn": f"bundle exec unicorn -l {_ADDRESS}:{_PORT} config.ru",
    "iodine": f"bundle exec iodine -b {_ADDRESS} -p {_PORT} config.ru",
}
_TITLES = {
    "sinatra": "Sinatra", "roda": "Roda", "grape": "Grape", "hanami": "Hanami", "cuba": "Cuba",
    "padrino": "Padrino", "rack": "Rack",
}  # fmt: skip


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part with a Rack configuration, or a script that serves."""
    title = next((shown for name, shown in _TITLES.items() if name in names), "Rack")
    rack = within(folder, "config.ru")
    if rack in tree:
        place = Evidence(rack, 1)
        line, why = _server(tree, folder, names)
        return FrameworkFound(
            title, place, (Command("server", line, why, _RANK, place, folder),), pages=("/",)
        )
    script = RubyRecognising()._script(tree, folder)
    if script is None:
        return None
    name = script.path.rpartition("/")[2]
    run = "bundle exec ruby" if within(folder, "Gemfile") in tree else "ruby"
    options = f" -o {_ADDRESS} -p ${{PORT:-4567}}" if "sinatra" in tree.text(script.path) else ""
    line = f"{run} {name}{options}"
    return FrameworkFound(
        title if title != "Rack" else "a script that serves", script,
        (Command("server", line, "the script starts a server", _RANK, script, folder),), pages=("/",),
    )  # fmt: skip


def _server(tree: Tree, folder: str, names: frozenset[str]) -> tuple[str, str]:
    """The command line, by the server that the part has; and why."""
    for name, line in _SERVERS.items():
        if name in names:
            if name == "puma" and within(folder, "config/puma.rb") in tree:
                return line.replace(
                    "bundle exec puma", "bundle exec puma -C config/puma.rb"
                ), "the part has Puma"
            return line, f"the part has {name}"
    return f"bundle exec rackup -o {_ADDRESS} -p {_PORT} config.ru", "Rack's own command"
