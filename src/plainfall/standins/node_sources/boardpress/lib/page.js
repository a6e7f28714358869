"use strict";

exports.style = "body{font:16px sans-serif;margin:2em}th{text-align:left;padding-right:1em}.bar{display:block;height:1em;background:#39c}";

exports.whole = async (page) =>
  `<!doctype html><html lang="en"><head><meta charset="utf-8"><title>${page.title}</title>` +
  `<link rel="stylesheet" href="/style.css"></head><body>${await page.content()}</body></html>`;
