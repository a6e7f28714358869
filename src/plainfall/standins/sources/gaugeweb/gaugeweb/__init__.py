"""A tiny web framework: routes, pages, JSON, static files."""

import json
import mimetypes
from pathlib import Path

from pageweave import render

__version__ = "1.4.0"


class Response:
    def __init__(self, body, media_type="text/html; charset=utf-8", status="200 OK"):
        self.body = body.encode() if isinstance(body, str) else body
        self.media_type = media_type
        self.status = status


class Application:
    """A WSGI application: ``route`` adds pages, ``static`` a folder of files."""

    def __init__(self, templates):
        self.templates = Path(templates)
        self.routes = {}
        self.folders = {}

    def route(self, path):
        def add(handler):
            self.routes[path] = handler
            return handler

        return add

    def static(self, prefix, folder):
        self.folders[prefix] = Path(folder)

    def page(self, name, **values):
        return Response(render((self.templates / name).read_text("utf-8"), values))

    @staticmethod
    def json(value):
        return Response(json.dumps(value), "application/json")

    def __call__(self, environ, start_response):
        path = environ.get("PATH_INFO") or "/"
        response = self._answer(path, environ)
        headers = [("Content-Type", response.media_type), ("Content-Length", str(len(response.body)))]
        start_response(response.status, headers)
        return [response.body]

    def _answer(self, path, environ):
        if path in self.routes:
            return self.routes[path](environ)
        for prefix, folder in self.folders.items():
            file = (folder / path[len(prefix) :].lstrip("/")).resolve()
            if path.startswith(prefix) and file.is_file() and folder.resolve() in file.parents:
                kind = mimetypes.guess_type(file.name)[0] or "application/octet-stream"
                return Response(file.read_bytes(), kind)
        return Response("<title>Not found</title><h1>Not found</h1>", status="404 Not Found")
