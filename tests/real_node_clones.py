"""Small Node clones of ours, written for real frameworks."""

from __future__ import annotations

__all__ = ["CLONES"]

_BUNDLED = {
    "package.json": """{
  "name": "rain-board", "version": "1.0.0", "private": true, "type": "module",
  "scripts": {"dev": "vite", "build": "vite build"},
  "dependencies": {"react": "^18.3.1", "react-dom": "^18.3.1"},
  "devDependencies": {"vite": "^5.4.0"}
}
""",
    "index.html": '<!doctype html><title>Rain board</title><div id="root"></div><script type="module" src="/src/main.js"></script>\n',
    "src/main.js": (
        'import React from "react";\nimport { createRoot } from "react-dom/client";\n'
        'createRoot(document.getElementById("root")).render(React.createElement("h1", null, import.meta.env.VITE_TITLE));\n'
    ),
    ".env.example": "VITE_TITLE=Lower Valley\n",
}
_QUERIES = {
    "package.json": """{
  "name": "gauge-api", "version": "1.0.0", "private": true,
  "scripts": {"migrate": "knex migrate:latest", "seed": "knex seed:run", "start": "node server.js"},
  "dependencies": {"better-sqlite3": "^11.0.0", "express": "^4.19.0", "knex": "^3.1.0"}
}
""",
    "knexfile.js": (
        'module.exports = {\n  client: "better-sqlite3",\n  connection: { filename: process.env.DB_FILE },\n'
        "  useNullAsDefault: true,\n};\n"
    ),
    "migrations/001_readings.js": (
        'exports.up = (knex) =>\n  knex.schema.createTable("readings", (table) => {\n    table.increments();\n'
        '    table.string("station");\n    table.float("millimetres");\n  });\n'
        'exports.down = (knex) => knex.schema.dropTable("readings");\n'
    ),
    "seeds/readings.js": (
        'exports.seed = (knex) => knex("readings").insert([{ station: "Kelby Weir", millimetres: 4.2 }]);\n'
    ),
    "server.js": (
        'const knex = require("knex")(require("./knexfile.js"));\nconst app = require("express")();\n'
        'app.get("/", async (ask, answer) => {\n  const rows = await knex("readings");\n'
        "  answer.send(`<title>Gauges</title>${rows.map((row) => row.station)}`);\n});\n"
        'app.listen(process.env.PORT || 3000, "127.0.0.1");\n'
    ),
    ".env.example": "DB_FILE=gauges.sqlite3\nPORT=8760\n",
}
CLONES = {"bundled": _BUNDLED, "queries": _QUERIES}
