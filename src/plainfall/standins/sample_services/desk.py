"""The desk: a page with the readings, and how often it was seen."""

import http.server
import os

from wires import Database, cache


class Page(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        text = "<!doctype html><title>Rain desk</title><h1>Rain desk</h1>"
        if os.environ.get("POSTGRES_HOST"):
            rows = Database().query("SELECT day, station, millimetres FROM readings ORDER BY day, station")
            text += "<ul>" + "".join(f"<li>{day}: {station} {mm} mm" for day, station, mm in rows) + "</ul>"
        if os.environ.get("REDIS_HOST"):
            text += f"<p>seen {cache('INCR', 'seen').lstrip(':')} times"
        self.send_response(200)
        self.send_header("Content-Type", "text/html")
        self.end_headers()
        self.wfile.write(text.encode())


http.server.ThreadingHTTPServer(("127.0.0.1", int(os.environ.get("PORT", "8000"))), Page).serve_forever()
