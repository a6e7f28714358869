#!/usr/bin/env node
"use strict";
const fs = require("node:fs");
const http = require("node:http");
const path = require("node:path");
const { whole, style } = require("./lib/page.js");

const [command, ...words] = process.argv.slice(2);
const option = (name, otherwise) => {
  const place = words.indexOf(`--${name}`);
  return place >= 0 ? words[place + 1] : otherwise;
};
const page = require(path.resolve(option("page", "src/page.js")));

if (command === "serve") {
  const server = http.createServer(async (ask, answer) => {
    if (ask.url === "/style.css") {
      answer.writeHead(200, { "content-type": "text/css" }).end(style);
      return;
    }
    try {
      const text = await whole(page);
      answer.writeHead(200, { "content-type": "text/html; charset=utf-8" }).end(text);
    } catch (error) {
      console.error(`boardpress: ${error.message}: ${error.cause ?? ""}`);
      answer.writeHead(502, { "content-type": "text/plain" }).end("the interface did not answer");
    }
  });
  const port = Number(option("port", process.env.PORT || 5150));
  server.listen(port, "127.0.0.1", () => console.log(`boardpress: http://localhost:${port}/`));
} else if (command === "build") {
  const out = option("out", "dist");
  fs.mkdirSync(out, { recursive: true });
  whole(page).then((text) => fs.writeFileSync(path.join(out, "index.html"), text));
} else {
  console.error("boardpress serve|build --page FILE [--out DIR] [--port N]");
  process.exit(2);
}
