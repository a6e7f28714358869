"""What tests of Node clones are made of: manifests, locks, a server."""

from __future__ import annotations

import json
from typing import Any

from plainfall.standins.node_registry import NodeArchive

__all__ = ["SERVER", "lock", "package_json"]

SERVER = """\
const http = require("node:http");
const gauge = require("gauge-words");
http.createServer((ask, answer) => {
  answer.setHeader("content-type", "text/html");
  answer.end(`<title>Gauge ${gauge}</title>ok`);
}).listen(process.env.PORT || 3000, "127.0.0.1");
"""


def lock(
    archives: list[NodeArchive], places: dict[str, str] | None = None, more: dict[str, Any] | None = None
) -> str:
    """A lock of format 3 with these packages at ``node_modules/NAME``, or where ``places`` says."""
    packages: dict[str, Any] = {"": {"dependencies": {one.name: one.version for one in archives}}}
    for one in archives:
        where = (places or {}).get(f"{one.name}@{one.version}", f"node_modules/{one.name}")
        entry: dict[str, Any] = {"version": one.version, "integrity": one.integrity}
        for key in ("os", "cpu", "optional"):
            if key in one.manifest:
                entry[key] = one.manifest[key]
        if "bin" in one.manifest:
            entry["bin"] = one.manifest["bin"]
        packages[where] = entry
    return json.dumps({"lockfileVersion": 3, "packages": {**packages, **(more or {})}}, indent=1)


def package_json(archives: list[NodeArchive], **more: Any) -> str:
    wishes = {one.name: one.version for one in archives}
    return json.dumps({"name": "board", "version": "1.0.0", "dependencies": wishes, **more}, indent=1)
