"""Node, in the shape of a language."""

from __future__ import annotations

from plainfall.ecosystems.node.clients.by_hand import node_by_hand
from plainfall.ecosystems.node.install.installing import NodeInstalling
from plainfall.ecosystems.node.recognise.checks import WORDS, node_checks
from plainfall.ecosystems.node.recognise.recognising import NodeRecognising
from plainfall.ecosystems.node.runtime.environments import NodeEnvironment
from plainfall.ecosystems.node.runtime.interpreters import GRAMMAR
from plainfall.ecosystems.shape import Language
from plainfall.sources.files import SourceReader

__all__ = ["LANGUAGE"]

LANGUAGE = Language(
    name="node",
    title="Node",
    readers=(
        SourceReader(
            "plainfall.ecosystems.node.sources.reader:read_javascript",
            (".js", ".mjs", ".cjs", ".jsx", ".ts", ".mts", ".cts", ".tsx", ".vue", ".svelte", ".astro"),
            tuple(
                "process.env meta.env loadEnv .env dotenv z.object oi.object cleanEnv createEnv onfig.get "
                "onfigService. JSON.parse yaml YAML .json' .json\"".split()
            ),
        ),
    ),
    programs=("node", "npm", "yarn", "pnpm", "npx"),
    port=3000,
    manifests=("package.json",),
    clients=("npm", "npx", "yarn", "pnpm", "jlpm"),
    known_by="a package.json with scripts or dependencies",
    package_folders=("node_modules",),
    left_behind=(".turbo/", ".svelte-kit/"),
    commands_folder="node_modules/.bin",
    precedence=3,
    grammar=GRAMMAR,
    checks=node_checks,
    check_words=WORDS,
    test_mode={"NODE_ENV": "test"},
    by_hand=node_by_hand,
    recognising=NodeRecognising(),
    environment=NodeEnvironment(),
    installing=NodeInstalling(),
    registry_files=(".npmrc", ".yarnrc", ".yarnrc.yml"),
)
