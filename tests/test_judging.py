"""What a page holds, and whether an answer is good: pure values in, words out."""

from __future__ import annotations

import pytest

from plainfall.ecosystems.frameworks import reload_channels
from plainfall.ecosystems.node.frameworks import webpack
from plainfall.server.channels import find_channel
from plainfall.server.judging import judge, notes_of
from plainfall.server.page import Field, read_page
from plainfall.server.signing import Account, _filled, _registers, complaint_of
from plainfall.server.visitor import Answer, Visitor

URL = "http://localhost:8000/stations/"


def answer(
    body: str = "<title>Rain</title>ok", status: int = 200, media: str = "text/html", **more: object
) -> Answer:
    return Answer(URL, status, media, body.encode(), 0.01, **more)  # type: ignore[arg-type]


def problem(body: str, status: int = 200, media: str = "text/html", **more: object) -> str:
    found = answer(body, status, media, **more)
    page = read_page(found.body, found.url) if media == "text/html" else None
    return judge(found, page, ())


@pytest.mark.parametrize(
    ("body", "said"),
    [
        ("<title>Rain</title><h1>Readings</h1>12.5 mm", ""),
        ("<h1>OperationalError</h1><pre>Traceback (most recent call last): x</pre>", "Traceback"),
        ("<b>Fatal error</b>: Uncaught Error: Call to undefined function rain()", "Uncaught Error"),
        ("Parse error: syntax error, unexpected end of file in /srv/rain.php on line 3", "Parse error"),
        ("<title>Error</title><h1>Failed to compile</h1>", "Failed to compile"),
        ("<h2>Module not found: Error: Can't resolve './gauge'</h2>", "Can't resolve"),
        ("<title>500</title><h1>Internal Server Error</h1>", "Internal Server Error"),
        ("<h1>Server Error (500)</h1>", "Server Error (500)"),
        ("<pre>TypeError: gauge is null at read (server.js:3:7)</pre>", "TypeError"),
        ("<h1>ActiveRecord::PendingMigrationError</h1>", "ActiveRecord::"),
        ("<pre>Cannot GET /stations/</pre>", "Cannot GET /"),
        # Words about errors, far down in a long text, are no error page.
        (
            "<title>Help</title>"
            + "<p>read the gauge</p>" * 400
            + "<p>Traceback (most recent call last)</p>",
            "",
        ),
        ("<title>Log</title><p>0 errors, 12 warnings, no fatal error was seen</p>", ""),
        (
            "<script>throw new TypeError('x') // Traceback (most recent call last)</script><title>a</title>b",
            "",
        ),
    ],
)
def test_error_pages_that_come_with_status_200(body: str, said: str) -> None:
    found = problem(body)
    assert (said in found and "its status is 200" in found) if said else found == ""


def test_other_things_that_are_wrong_with_an_answer() -> None:
    assert problem("x", 404) == "the page answers with status 404"
    assert problem("x", ending="broken") == "the answer breaks off after 1 bytes"
    assert "does not end" in problem("x" * 2000, ending="cut", seconds=10.0)
    assert problem("  \n") == "the page is empty"
    loop = answer(status=302, redirects=(URL, URL), location="/again")
    assert judge(loop, None, ()) == "it redirects for ever: /stations/ → /stations/ → /again"
    assert judge(answer('{"rain": 1}', media="application/json"), None, ()) == ""
    assert "Traceback" in judge(answer("Traceback (most recent call last)", media="text/plain"), None, ())
    page = read_page(b"<title>a</title>", URL)
    rows = (
        ("http://localhost/a.js", 200, "text/html"),
        ("http://localhost/b.css", 404, ""),
        ("http://localhost/c.png", 0, ""),
    )
    found = judge(answer(), page, rows)
    assert found == (
        "the page loads missing files: /a.js → a page instead (200), /b.css → 404, /c.png → no answer"
    )


def test_what_is_said_besides() -> None:
    assert notes_of(answer()) == []
    assert "self-signed certificate" in notes_of(answer(verified=False))[0]
    assert notes_of(answer(redirects=("http://localhost:8000/",))) == ["redirected: / → /stations/"]
    assert notes_of(answer(status=302, location="https://rain.example/")) == [
        "it leads away, to https://rain.example/"
    ]
    assert "streams without an end" in notes_of(answer(ending="cut"))[0]


PAGE = """\
<!doctype html><title> Lower
 Valley </title><base href="/app/"><h1>Gauges <em>today</em></h1><h4>small</h4><h2></h2>
<a href="kelby">Kelby</a><a href="/app/kelby#top">again</a><a href="https://elsewhere.example/">away</a>
<a href="mailto:ada@rain.example">write</a><a href="#here">here</a>
<link rel="stylesheet" href="rain.css"><link rel="preload" href="no.css"><script src="//cdn.example/x.js"></script>
<form action="enter" method="POST"><input type="hidden" name="token" value="t1"><input name="user" required>
<input type="password" name="pass"><input type="checkbox" name="keep"><input type="checkbox" name="terms" required>
<input type="radio" name="kind" value="a"><input type="radio" name="kind" value="b" checked>
<select name="station"></select><textarea name="note"></textarea><input type="file" name="scan">
<button name="go" value="yes">Go</button><button type="reset" name="r">x</button></form>
<input name="outside"><form><input name="q"></form>
"""


def test_everything_that_a_page_holds() -> None:
    page = read_page(PAGE.encode(), "http://localhost:8000/app/index.html")
    assert page.title == "Lower Valley" and page.headings == ("Gauges today",)
    assert page.links == ("http://localhost:8000/app/kelby",)
    assert page.assets == ("http://localhost:8000/app/rain.css",)
    first, second = page.forms
    assert (
        first.action == "http://localhost:8000/app/enter" and first.method == "post" and first.passwords == 1
    )
    assert [(one.name, one.kind, one.value) for one in first.fields] == [
        ("token", "hidden", "t1"), ("user", "text", ""), ("pass", "password", ""), ("terms", "checkbox", "on"),
        ("kind", "radio", "b"), ("station", "select", ""), ("note", "textarea", ""), ("go", "submit", "yes"),
    ]  # fmt: skip
    assert second.action == "http://localhost:8000/app/index.html" and second.fields == (
        Field("q", "text", ""),
    )


def test_a_form_is_filled_as_a_person_would() -> None:
    page = read_page(PAGE.encode(), "http://localhost:8000/app/index.html")
    account = Account("volunteer1", "volunteer1@rain.example", "secret-rain")
    assert _filled(page.forms[0], account) == [
        ("token", "t1"), ("user", "volunteer1"), ("pass", "secret-rain"), ("terms", "on"), ("kind", "b"),
        ("station", ""), ("note", ""), ("go", "yes"),
    ]  # fmt: skip
    assert not _registers(page.forms[0])
    joins = b"<form method=post><input type=email name=email><input type=password name=a></form>"
    assert _registers(read_page(joins, URL).forms[0])
    twice = b"<form method=post><input type=password name=a><input type=password name=b></form>"
    assert _registers(read_page(twice, URL).forms[0])


@pytest.mark.parametrize(
    ("text", "status", "said"),
    [
        (
            "Welcome. That name or password is incorrect. Forgot it?",
            200,
            "That name or password is incorrect.",
        ),
        (
            "Please enter a correct username and password.",
            200,
            "Please enter a correct username and password.",
        ),
        (
            "Forbidden: CSRF verification failed. More.",
            403,
            "status 403: Forbidden: CSRF verification failed.",
        ),
        ("Welcome", 200, "the form was shown again"),
    ],
)
def test_what_a_page_says_against_a_form(text: str, status: int, said: str) -> None:
    found = answer(f"<p>{text}</p>", status)
    assert complaint_of(found, read_page(found.body, found.url)) == said


@pytest.mark.parametrize(
    ("text", "path"),
    [
        ("new SockJS('http://l/sockjs-node')", "/sockjs-node/websocket"),
        ("url.format({ protocol: 'ws', pathname: '/sockjs-node' })", "/sockjs-node"),
        ("webpackHotUpdate", "/ws"),
        ("gauges()", None),
    ],
    ids=["by SockJS", "as the old tool opens it", "of today", "none"],
)
def test_the_channels_of_older_bundlers(text: str, path: str | None) -> None:
    found = webpack.reload_channel(["/js/app.js"], "", lambda _: text)
    assert (found.path if found else None) == path


@pytest.mark.parametrize(
    ("body", "assets", "title"),
    [
        ("", ("http://l/@vite/client",), "Vite"),
        ("", ("http://l/_next/static/chunks/main.js",), "Next.js"),
        ("", ("http://l/static/js/bundle.js",), "Webpack"),
        ("<script>webpackHotUpdate()</script>", (), "Webpack"),
        ("", ("http://l/app.js",), None),
    ],
)
def test_whose_reload_channel_a_page_opens(body: str, assets: tuple[str, ...], title: str | None) -> None:
    found = find_channel("http://127.0.0.1:9/", body, assets, Visitor(0.2), reload_channels())
    assert (found.title if found else None) == title
