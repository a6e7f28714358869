"""The pages: latest readings, all readings as JSON, health."""

import hashlib
import hmac
import os
from datetime import date
from pathlib import Path

import envleaf
from gaugeweb import Application
from millimetric import amount
from pluvial.seasons import season

from raingauge import storage

envleaf.load()
HERE = Path(__file__).parent
SECRET = os.environ["SECRET_KEY"].encode()

application = Application(HERE / "pages")
application.static("/static", HERE / "static")


@application.route("/")
def latest(environ):
    rows = [
        {"station": name, "day": day, "amount": amount(millimetres)}
        for name, day, millimetres in storage.latest()
    ]
    return application.page(
        "latest.html",
        network=os.environ.get("NETWORK_NAME", "Rain Watch"),
        season=season(date.today().month),
        rows=rows,
        forecast="on" if os.environ.get("FORECAST_KEY") else "off",
    )


@application.route("/api/readings")
def readings(environ):
    rows = [{"station": s, "day": d, "millimetres": m} for s, d, m in storage.readings()]
    proof = hmac.new(SECRET, str(len(rows)).encode(), hashlib.sha256).hexdigest()
    return application.json({"count": len(rows), "readings": rows, "proof": proof})


@application.route("/health")
def health(environ):
    return application.json({"database": "answers", "stations": storage.stations()})
