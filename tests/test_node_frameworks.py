"""Frameworks of Node: recognised by their scripts and files, with host and port as each one takes them."""

from __future__ import annotations

import json
import shutil
from typing import Any

import pytest
from conftest import Machine

from plainfall.clone.parts import PartFound
from plainfall.ecosystems.node.recognise.servers import fans_out
from plainfall.survey.look import look


def manifest(*names: str, **more: Any) -> str:
    return json.dumps({"name": "board", "dependencies": dict.fromkeys(names, "*"), **more})


def part(machine: Machine, files: dict[str, str]) -> PartFound:
    survey, _ = look(machine.clone(files))
    return survey.parts[0]


VITE = "--host 127.0.0.1 --port ${PORT:-5173} --strictPort"


@pytest.mark.parametrize(
    ("names", "scripts", "files", "title", "line"),
    [
        (["vite"], {"dev": "vite"}, [], "Vite", f"npm run dev -- {VITE}"),
        (["vite"], {"start": "vite --open"}, [], "Vite", f"npm run start -- {VITE}"),
        (["vite"], {"test": "vitest"}, ["index.html"], "Vite", f"vite {VITE}"),
        (["vite"], {"build": "vite build", "start": "node x.js"}, [], None, "npm run start"),
        (["@sveltejs/kit", "vite"], {"dev": "vite dev"}, [], "Vite", f"npm run dev -- {VITE}"),
        (["next"], {"dev": "next dev --turbo", "start": "next start"}, [], "Next.js",
         "npm run dev -- -H 127.0.0.1 -p ${PORT:-3000}"),
        (["next"], {}, ["app/page.tsx"], "Next.js", "next dev -H 127.0.0.1 -p ${PORT:-3000}"),
        (["nuxt"], {"dev": "nuxt dev"}, [], "Nuxt", "npm run dev -- --host 127.0.0.1 --port ${PORT:-3000}"),
        (["astro"], {"dev": "astro dev"}, [], "Astro", "npm run dev -- --host 127.0.0.1 --port ${PORT:-4321}"),
        (["@react-router/dev"], {"dev": "react-router dev"}, [], "React Router",
         "npm run dev -- --host 127.0.0.1 --port ${PORT:-5173}"),
        (["@angular/cli"], {"start": "ng serve"}, ["angular.json"], "Angular",
         "npm run start -- --host 127.0.0.1 --port ${PORT:-4200}"),
        (["react-scripts"], {"start": "react-scripts start"}, [], "React Scripts", "npm run start"),
        (["@vue/cli-service"], {"serve": "vue-cli-service serve"}, [], "Vue CLI",
         "npm run serve -- --host 127.0.0.1 --port ${PORT:-8080}"),
        (["webpack-dev-server"], {}, ["webpack.config.js"], "Webpack",
         "webpack serve --host 127.0.0.1 --port ${PORT:-8080}"),
        (["@nestjs/core"], {"start": "nest start", "start:dev": "nest start --watch"}, [], "NestJS",
         "npm run start:dev"),
        (["@docusaurus/core"], {"serve": "docusaurus serve", "start": "docusaurus start"}, [], None, "npm run start"),
        (["http-server"], {"serve": "http-server dist", "start": "node x.js"}, [], None, "npm run start"),
        (["vite", "concurrently"], {"dev": "concurrently 'vite' 'tsc -w'"}, [], None, "npm run dev"),
    ],
)  # fmt: skip
def test_dev_servers_get_host_and_port_as_they_take_them(
    machine: Machine,
    names: list[str],
    scripts: dict[str, str],
    files: list[str],
    title: str | None,
    line: str,
) -> None:
    found = part(machine, {"package.json": manifest(*names, scripts=scripts), **dict.fromkeys(files, "{}")})
    assert found.candidates("server")[0].line == line
    assert [one.name for one in found.frameworks] == ([title] if title else [])


EXPRESS = """\
const express = require("express");
const app = express();
app.get("/api/stations", (ask, answer) => answer.json([]));
app.get("/api/stations/:id", (ask, answer) => answer.json({}));
app.use("/readings", require("./readings"));
app.use("/style.css", express.static("x"));
app.listen(process.env.PORT || 3000);
"""
NEST = {
    "src/main.ts": "const app = await NestFactory.create(M);\napp.setGlobalPrefix('api');\nawait app.listen(3000);",
    "src/stations.controller.ts": "@Controller('stations')\nclass S {\n@Get()\nall() {}\n@Get('wet')\nwet() {}\n}",
}


@pytest.mark.parametrize(
    ("files", "title", "line", "pages"),
    [
        ({"package.json": manifest("express", scripts={"start": "node server.js"}), "server.js": EXPRESS},
         "Express", "npm run start", ["/", "/api/stations", "/readings"]),
        ({"package.json": manifest("express"), "src/app.js": EXPRESS},
         "Express", "node src/app.js", ["/", "/api/stations", "/readings"]),
        ({"package.json": manifest("fastify", "tsx"), "src/server.ts": "const f = Fastify();\nf.listen({});"},
         "Fastify", "tsx src/server.ts", ["/"]),
        ({"package.json": manifest(), "index.js": "require('http').createServer(f).listen(80);"},
         "plain HTTP", "node index.js", ["/"]),
        ({"package.json": manifest("@nestjs/core"), "nest-cli.json": "{}", **NEST},
         "NestJS", "nest start", ["/", "/api/stations", "/api/stations/wet"]),
    ],
)  # fmt: skip
def test_servers_and_the_pages_that_they_have(
    machine: Machine, files: dict[str, str], title: str, line: str, pages: list[str]
) -> None:
    document = {**json.loads(files["package.json"]), "main": "x"}  # a manifest that lists nothing is no part
    found = part(machine, {**files, "package.json": json.dumps(document)})
    assert [one.name for one in found.frameworks] == [title]
    assert found.candidates("server")[0].line == line and list(found.pages) == pages


@pytest.mark.parametrize(
    ("names", "files", "migrations", "seeds"),
    [
        (["knex"], {"knexfile.js": "", "migrations/1.js": "", "seeds/1.js": ""},
         "knex migrate:latest", "knex seed:run"),
        (["knex"], {"db/knexfile.ts": "", "db/migrations/1.ts": ""},
         "knex migrate:latest --knexfile db/knexfile.ts", None),
        (["prisma"], {"prisma/schema.prisma": "", "prisma/migrations/1_a/migration.sql": ""},
         "prisma generate && prisma migrate deploy", None),
        (["@prisma/client"], {"prisma/schema.prisma": "", "prisma.config.ts": "{ seed: 'tsx seed.ts' }"},
         "prisma generate && prisma db push --skip-generate", "prisma db seed"),
        (["sequelize-cli"], {"migrations/1.js": "", "seeders/1.js": ""},
         "sequelize db:migrate", "sequelize db:seed:all"),
        (["typeorm"], {"src/data-source.ts": "export const d = new DataSource({", "src/migrations/1.ts": ""},
         "typeorm-ts-node-commonjs migration:run -d src/data-source.ts", None),
        (["drizzle-kit"], {"drizzle.config.ts": "", "drizzle/meta/_journal.json": "{}"},
         "drizzle-kit migrate", None),
        (["drizzle-kit"], {"drizzle.config.ts": ""}, "drizzle-kit push", None),
        (["express"], {"migrations/1.js": ""}, None, None),
        # The project's own script says more than a framework's convention.
        (["knex"], {"knexfile.js": "", "migrations/1.js": "",
                    "package.json": manifest("knex", scripts={"migrate": "knex migrate:latest --env local"})},
         "npm run migrate", None),
    ],
)  # fmt: skip
def test_migrations_and_seeds(
    machine: Machine, names: list[str], files: dict[str, str], migrations: str | None, seeds: str | None
) -> None:
    found = part(machine, {"package.json": manifest(*names), **files})
    for stage, line in (("migrations", migrations), ("seeds", seeds)):
        assert next((one.line for one in found.candidates(stage)), None) == line


@pytest.mark.parametrize(
    ("names", "scripts", "files", "line", "lacks"),
    [
        (["knex"], {"migrate": "knex migrate:latest"}, {"knexfile.js": ""}, "npm run migrate", True),
        (["knex"], {"migrate": "knex migrate:latest"}, {"knexfile.js": "", "README.md": "# R\n\n## Set up\n\n    npm run migrate\n"},
         "npm run migrate", True),
        (["knex"], {"migrate": "knex migrate:latest"}, {"knexfile.js": "{ migrations: { directory: './changes' } }"},
         "npm run migrate", False),
        (["knex"], {"migrate": "knex migrate:latest"}, {"knexfile.js": "", "db/migrations/1.js": ""},
         "npm run migrate", False),
        (["drizzle-kit"], {"db:migrate": "drizzle-kit migrate"}, {"drizzle.config.ts": ""},
         "drizzle-kit push", False),
        (["drizzle-kit"], {"db:migrate": "drizzle-kit migrate", "db:push": "drizzle-kit push"},
         {"drizzle.config.ts": "", "README.md": "# R\n\n## Set up\n\n    npm run db:push\n"}, "drizzle-kit push", False),
        (["prisma"], {"migrate": "prisma migrate deploy"}, {"prisma/schema.prisma": ""},
         "prisma generate && prisma db push --skip-generate", False),
        (["typeorm"], {"migrate": "typeorm migration:run"}, {"src/data-source.ts": "new DataSource({})"},
         "npm run migrate", True),
    ],
)  # fmt: skip
def test_migrations_without_their_files_come_last(
    machine: Machine,
    names: list[str],
    scripts: dict[str, str],
    files: dict[str, str],
    line: str,
    lacks: bool,
) -> None:
    files = {"package.json": manifest(*names, scripts=scripts), **files}
    best = part(machine, files).candidates("migrations")[0]
    assert (best.line, bool(best.lacks)) == (line, lacks)
    if lacks:
        shown = " ".join(machine.run("survey", machine.clone(files, "again")).out.split())
        assert "left out, since the clone has no migrations for it" in shown


@pytest.mark.skipif(shutil.which("node") is None, reason="no Node here")
def test_migrations_that_are_left_out_are_said(machine: Machine) -> None:
    serves = "require('http').createServer((q, a) => a.end('ok')).listen(process.env.PORT, '127.0.0.1')\n"
    scripts = {"dev": "node server.js", "migrate": "knex migrate:latest"}
    clone = machine.clone(
        {
            "package.json": json.dumps({"name": "board", "scripts": scripts}),
            "server.js": serves,
            "knexfile.js": "",
        }
    )
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    step = run.step("migrations")
    assert step["state"] == "left out" and "works through migrations, and the clone has none" in step["why"]


@pytest.mark.parametrize(
    ("text", "fans"),
    [
        ("concurrently 'npm:api' 'npm:web'", True),
        ("npm-run-all --parallel api web", True),
        ("npm --prefix client run dev", True),
        ("cd client && npm start", True),
        ("npm run dev -ws", True),
        ("pnpm -r dev", True),
        ("turbo dev", True),
        ("node api.js & node web.js", True),
        ("vite && echo done", False),
        ("vite --port 3000", False),
        ("nodemon -w src server.js", False),
        ("node server.js 2>&1 | tee log", False),
        ("next dev --turbo", False),
        ("NODE_ENV=development node server.js", False),
    ],
)
def test_scripts_that_start_others(text: str, fans: bool) -> None:
    assert fans_out(text) is fans


@pytest.mark.parametrize(
    ("text", "lines"),
    [
        ("NODE_ENV=production node app.js", ["node app.js", "npm run start"]),
        ("node app.js", ["npm run start"]),
    ],
)
def test_a_start_script_for_production_is_started_in_development(
    machine: Machine, text: str, lines: list[str]
) -> None:
    files = {"package.json": json.dumps({"name": "board", "scripts": {"start": text}}), "app.js": ""}
    assert [one.line for one in part(machine, files).candidates("server")][: len(lines)] == lines
