"""What source files say of configuration, in four languages: one construct a test."""

from __future__ import annotations

from pathlib import Path

import pytest

from plainfall.ecosystems import source_readers
from plainfall.sources.files import read_source, read_sources
from plainfall.sources.names import constant_kind, is_process_variable
from plainfall.sources.values import FileFound, Use

# language, code, key, default, type, whether absence stops the program
Row = tuple[str, str, str, str | None, str, bool]
ROWS: list[Row] = [
    ("py", "import os\nos.environ['KEY']", "KEY", None, "text", True),
    ("py", "from os import environ as e\ne.get('KEY', 'x')", "KEY", "x", "text", False),
    ("py", "from os import getenv as g\ng('KEY')", "KEY", None, "text", False),
    ("py", "import os\nint(os.getenv('KEY'))", "KEY", None, "number", True),
    ("py", "import os\nfloat(os.getenv('KEY', 2.5))", "KEY", "2.5", "number", False),
    ("py", "import os\nint(os.environ.get('KEY') or 7)", "KEY", "7", "number", False),
    ("py", "import os\nos.getenv('KEY').split(',')", "KEY", None, "list", True),
    ("py", "import os\nos.getenv('KEY', '').lower() in ('1', 'true')", "KEY", "", "boolean", False),
    ("py", "import os, json\njson.loads(os.environ['KEY'])", "KEY", None, "json", True),
    ("py", "import os\nfrom pathlib import Path\nPath(os.getenv('KEY', 'var'))", "KEY", "var", "path", False),
    ("py", "import os\nROOT = os.getenv('KEY') + '/x'", "KEY", None, "text", True),
    ("py", "import os\ntry:\n    a = os.environ['KEY']\nexcept KeyError:\n    a = 1", "KEY", None, "text", False),
    ("py", "import os\ntry:\n    a = os.environ['KEY']\nexcept KeyError:\n    raise SystemExit(1)", "KEY", None, "text", True),
    ("py", "import os\nif 'KEY' in os.environ:\n    a = os.environ['KEY']", "KEY", None, "text", False),
    ("py", "import os\nassert os.getenv('KEY')", "KEY", None, "text", True),
    ("py", "import os\na = os.getenv('KEY')\nassert a, 'set KEY'", "KEY", None, "text", True),
    ("py", "import os\nif not os.getenv('KEY'):\n    raise ValueError", "KEY", None, "text", True),
    ("py", "import os\nif (a := os.getenv('KEY')) is None:\n    raise ValueError", "KEY", None, "text", True),
    ("py", "import os\nNAMES = ('KEY', 'B')\nif not all(os.getenv(n) for n in NAMES):\n    pass", "KEY", None, "text", False),
    ("py", "import os\nlost = [n for n in ['KEY'] if not os.getenv(n)]\nif lost:\n    raise ValueError", "KEY", None, "text", True),
    ("py", "import os\nos.environ.setdefault('KEY', 'gauges.dev')", "KEY", "gauges.dev", "text", False),
    ("py", "app.config.from_envvar('KEY')", "KEY", None, "path", True),
    ("py", "app.config.from_envvar('KEY', silent=True)", "KEY", None, "path", False),
    ("py", "from environs import Env\nenv = Env()\nenv.int('KEY', 3)", "KEY", "3", "number", False),
    ("py", "import environ\nenv = environ.Env(KEY=(bool, True))\nenv('KEY')", "KEY", "true", "text", False),
    ("py", "from decouple import config\nconfig('KEY', cast=bool)", "KEY", None, "boolean", True),
    ("py", "class S(BaseSettings):\n    key: int = 3", "KEY", "3", "number", False),
    ("py", "class S(BaseSettings):\n    class Config:\n        env_prefix = 'rain_'\n    key: list[str]", "RAIN_KEY", None, "list", True),
    ("py", "class B(BaseSettings):\n    pass\nclass S(B):\n    key: str | None = None", "KEY", None, "text", False),
    ("js", "const a = process.env.KEY", "KEY", None, "text", False),
    ("js", "const a = process.env['KEY'] || 'x'", "KEY", "x", "text", False),
    ("js", "const a = process.env.KEY ? process.env.KEY : 'x'", "KEY", "x", "text", False),
    ("js", "const a = +process.env.KEY", "KEY", None, "number", False),
    ("js", "const a = parseInt(process.env.KEY ?? '3', 10)", "KEY", "3", "number", False),
    ("js", "const a = process.env.KEY === 'true'", "KEY", None, "boolean", False),
    ("js", "const a = JSON.parse(process.env.KEY)", "KEY", None, "json", True),
    ("js", "const a = process.env.KEY?.split(',')", "KEY", None, "list", False),
    ("js", "const a = process.env.KEY.split(',')", "KEY", None, "list", True),
    ("js", "const { KEY = 'x' } = process.env", "KEY", "x", "text", False),
    ("js", "const { KEY: a } = process.env", "KEY", None, "text", False),
    ("js", "const e = process.env; f(e.KEY)", "KEY", None, "text", False),
    ("js", "const a = process.env.KEY; if (a === undefined) throw new Error('x')", "KEY", None, "text", True),
    ("js", "if (typeof process.env.KEY === 'undefined') { process.exit(1) }", "KEY", None, "text", True),
    ("js", "const assert = require('assert'); assert(process.env.KEY)", "KEY", None, "text", True),
    ("js", "['KEY'].forEach((n) => { if (!process.env[n]) throw new Error(n) })", "KEY", None, "text", True),
    ("js", "const need = (n) => { const v = process.env[n]; if (!v) throw 1; return v }; need('KEY')", "KEY", None, "text", True),
    ("js", "const env = require('env-var'); env.get('KEY').required().asPortNumber()", "KEY", None, "number", True),
    ("js", "const env = require('env-var'); env.get('KEY').default('3').asInt()", "KEY", "3", "number", False),
    ("js", "const s = Joi.object({ KEY: Joi.number().default(3) })", "KEY", "3", "number", False),
    ("js", "const s = Joi.object({ KEY: Joi.string().required() })", "KEY", None, "text", True),
    ("js", "const a = Deno.env.get('KEY')", "KEY", None, "text", False),
    ("ts", "const a = process.env.KEY as string", "KEY", None, "text", False),
    ("ts", "const a: string = process.env.KEY!", "KEY", None, "text", True),
    ("ts", "const e = createEnv({ server: { KEY: z.string().url() } })", "KEY", None, "address", True),
    ("ts", "class A { constructor(private configService: C) { configService.get<number>('KEY', 3) } }", "KEY", "3", "text", False),
    ("vue", "<script>\nconst a = import.meta.env.KEY\n</script>", "KEY", None, "text", False),
    ("php", "<?php $a = env('KEY', 'x');", "KEY", "x", "text", False),
    ("php", "<?php $a = (int) getenv('KEY');", "KEY", None, "number", False),
    ("php", "<?php $a = getenv('KEY') ?: 'x';", "KEY", "x", "text", False),
    ("php", "<?php $a = $_ENV['KEY'] ?? throw new E();", "KEY", None, "text", True),
    ("php", "<?php $a = $_SERVER['KEY'];", "KEY", None, "text", False),
    ("php", "<?php if (empty($_ENV['KEY'])) { die('x'); }", "KEY", None, "text", True),
    ("php", "<?php $a = getenv('KEY'); if (!$a) { throw new E(); }", "KEY", None, "text", True),
    ("php", "<?php foreach (['KEY'] as $k) { if (!getenv($k)) { exit(1); } }", "KEY", None, "text", True),
    ("php", "<?php Env::getOrFail('KEY');", "KEY", None, "text", True),
    ("php", "<?php $d->required(['KEY'])->isBoolean();", "KEY", None, "boolean", True),
    ("rb", "a = ENV['KEY']", "KEY", None, "text", False),
    ("rb", "a = ENV['KEY'] || 'x'", "KEY", "x", "text", False),
    ("rb", "a = ENV.fetch('KEY')", "KEY", None, "text", True),
    ("rb", "a = ENV.fetch('KEY') { 'x' }", "KEY", "x", "text", False),
    ("rb", "a = ENV.fetch('KEY') { raise 'x' }", "KEY", None, "text", True),
    ("rb", "a = ENV.fetch('KEY', '3').to_i", "KEY", "3", "number", False),
    ("rb", "a = Integer(ENV['KEY'])", "KEY", None, "number", True),
    ("rb", "a = ENV['KEY']&.split(',')", "KEY", None, "list", False),
    ("rb", "raise 'x' unless ENV['KEY']", "KEY", None, "text", True),
    ("rb", "abort if ENV['KEY'].blank?", "KEY", None, "text", True),
    ("rb", "a = ENV['KEY'] or raise 'x'", "KEY", None, "text", True),
    ("rb", "ENV['KEY'] ||= 'x'", "KEY", "x", "text", False),
    ("rb", "%w[KEY].each { |k| ENV.fetch(k) }", "KEY", None, "text", True),
    ("yml", "a: '%env(int:KEY)%'", "KEY", None, "number", True),
    ("yml", "a: <%= ENV.fetch('KEY', '3') %>", "KEY", "3", "text", False),
]  # fmt: skip


def said(code: str, ending: str) -> FileFound:
    return read_source(code, f"main.{ending}", source_readers())


def named(found: FileFound, key: str) -> list[Use]:
    return [use for use in found.uses if use.key == key]


@pytest.mark.parametrize("row", ROWS, ids=lambda row: f"{row[0]}: {row[1][:60]!r}")
def test_a_read_has_its_default_its_type_and_what_absence_does(row: Row) -> None:
    ending, code, key, default, kind, needed = row
    uses = named(said(code, ending), key)
    assert uses, "the read was not found"
    assert (uses[0].default, uses[0].type, uses[-1].needed or uses[0].needed) == (default, kind, needed)
    assert uses[0].place.path == f"main.{ending}" and uses[0].place.line >= 1


@pytest.mark.parametrize(
    ("ending", "code"),
    [
        ("py", "# os.environ['KEY']\nx = \"os.environ['KEY']\"\n"),
        ("py", "import os\nos.environ['KEY'] = 'x'\ndel os.environ['KEY']\n"),
        (
            "js",
            "// process.env.KEY\nconst a = 'process.env.KEY'; process.env.KEY = 'x'; delete process.env.KEY",
        ),
        ("php", "<?php // getenv('KEY')\n$a = \"getenv('KEY')\"; $_ENV['KEY'] = 'x';"),
        ("rb", "# ENV['KEY']\na = \"ENV['KEY']\"\nENV['KEY'] = 'x'\n"),
        ("py", "def broken(:\n"),
    ],
)
def test_comments_texts_and_writes_are_no_reads(ending: str, code: str) -> None:
    assert named(said(code, ending), "KEY") == []


@pytest.mark.parametrize(
    ("ending", "code", "name", "base"),
    [
        ("py", "load_dotenv('.env.dev')", ".env.dev", ""),
        ("py", "load_dotenv(Path(__file__).parent / 'conf' / '.env')", "conf/.env", "file"),
        ("py", "load_dotenv()", ".env", ""),
        ("py", "yaml.safe_load(open('conf/gauges.yml'))", "conf/gauges.yml", ""),
        ("py", "class S(BaseSettings):\n    model_config = SettingsConfigDict(env_file='.env.local')", ".env.local", ""),
        ("js", "require('dotenv').config()", ".env", ""),
        ("js", "require('dotenv').config({ path: '.env.local' })", ".env.local", ""),
        ("js", "const c = require('./conf/gauges.json')", "./conf/gauges.json", "file"),
        ("php", "<?php $c = require __DIR__ . '/config.php';", "config.php", "file"),
        ("php", "<?php Dotenv\\Dotenv::createImmutable(dirname(__DIR__))->load();", "../.env", "file"),
        ("rb", "require 'dotenv/load'", ".env", ""),
        ("rb", "C = YAML.load_file('config/gauges.yml')", "config/gauges.yml", ""),
    ],
)  # fmt: skip
def test_files_that_code_loads(ending: str, code: str, name: str, base: str) -> None:
    assert (name, base) in [(load.name, load.base) for load in said(code, ending).loads]


@pytest.mark.parametrize(
    ("ending", "code", "key", "needed"),
    [
        ("py", "c = json.load(open('g.json'))\nc['a']['b']", "a.b", True),
        ("py", "with open('g.yml') as f:\n    c = yaml.safe_load(f)\nc.get('a', 1)", "a", False),
        ("py", "def load():\n    return yaml.safe_load(open('g.yml'))\nc = load()\nc['a']", "a", True),
        ("py", "i = configparser.ConfigParser()\ni.read('g.ini')\ni.getint('a', 'b')", "a.b", True),
        ("js", "const c = require('./g.json'); f(c.a.b)", "a.b", False),
        ("js", "import c from './g.json'; f(c.a ?? 3)", "a", False),
        ("php", "<?php $c = parse_ini_file('g.ini', true); f($c['a']['b']);", "a.b", False),
        ("rb", "C = YAML.load_file('g.yml')\nC.dig('a', 'b')", "a.b", False),
        ("rb", "C = YAML.load_file('g.yml')\nC.fetch(:a).fetch('b')", "a.b", True),
    ],
)
def test_keys_of_a_configuration_file(ending: str, code: str, key: str, needed: bool) -> None:
    [use] = [use for use in said(code, ending).uses if use.file]
    assert (use.key, use.needed) == (key, needed) and use.file.startswith("g.")


@pytest.mark.parametrize(
    ("ending", "code", "form", "length", "exact"),
    [
        ("py", "import os\nk = bytes.fromhex(os.environ['K'])", "hex", 0, False),
        ("py", "import os\nFernet(os.environ['K'])", "fernet", 0, False),
        ("py", "import os\nk = os.environ['K']\nif len(k) < 24:\n    raise E", "", 24, False),
        ("py", "import os\nk = os.environ['K']\nif len(k) != 16:\n    raise E", "", 16, True),
        ("js", "const k = Buffer.from(process.env.K, 'base64')", "base64", 0, False),
        ("js", "const k = process.env.K; if (k.length <= 31) throw 1", "", 32, False),
        ("ts", "z.object({ KK: z.string().length(40) }).parse(process.env)", "", 40, True),
        ("php", "<?php $k = hex2bin(getenv('K'));", "hex", 0, False),
        ("rb", "k = Base64.decode64(ENV.fetch('K'))", "base64", 0, False),
    ],
)
def test_the_form_that_code_demands_of_a_secret(
    ending: str, code: str, form: str, length: int, exact: bool
) -> None:
    use = said(code, ending).uses[0]
    assert (use.form, use.length, use.exact) == (form, length, exact)


@pytest.mark.parametrize(
    ("name", "value", "kind"),
    [
        ("HOST", "192.168.1.4", "host"),
        ("SENSOR_HOST", "gauge.local", "host"),
        ("HTTP_PORT", 8080, "port"),
        ("port", "8080", "port"),
        ("SERIAL_PORT", "/dev/ttyUSB0", "device"),
        ("DEVICE", "COM3", "device"),
        ("apiUrl", "http://gauge.lan/x", "address"),
        ("BROKER", "192.168.1.4:1883", "address"),
        ("SENSOR_ADDRESS", "00:1A:7D:DA:71:13", "device"),
        ("TRANSPORT", "rail", ""),
        ("PORT", 0, ""),
        ("GHOST", "white", ""),
        ("REPORT", "8080", ""),
        ("NAME", "localhost", ""),
    ],
)
def test_which_constants_are_settings(name: str, value: str | int, kind: str) -> None:
    assert constant_kind(name, value) == kind


def test_what_the_system_sets_is_no_setting() -> None:
    assert is_process_variable("PATH") and is_process_variable("npm_package_name")
    assert is_process_variable("MODE", client=True) and not is_process_variable("MODE")
    assert not is_process_variable("PORT") and not is_process_variable("HTTP_PORT")


def test_many_files_are_read_by_several_processes_and_kept(tmp_path: Path) -> None:
    paths = [f"part{number}.py" for number in range(400)]
    for number, path in enumerate(paths):
        (tmp_path / path).write_text(
            f"import os\nos.environ['KEY_{number}']\n" if number % 4 == 0 else "x = 1\n"
        )
    cache = tmp_path / "cache"
    first = read_sources(tmp_path, paths, cache, source_readers())
    assert len(first) == 100 and first["part4.py"].uses[0].key == "KEY_4"
    assert read_sources(tmp_path, paths, cache, source_readers()) == first
    (kept,) = cache.glob("sources/*.json")
    kept.write_text("{damaged")
    assert read_sources(tmp_path, paths, cache, source_readers()) == first


@pytest.mark.parametrize(
    ("ending", "code"),
    [
        ("py", "import os\nk = bytes.fromhex(os.getenv('K', 'aabbccddeeff'))"),
        ("py", "import os\nk = os.getenv('SECRET_KEY', 'aabbccddeeff')"),
        ("py", "from decouple import config\nk = config('GATE_TOKEN', default='aabbccddeeff')"),
        ("py", "class S(BaseSettings):\n    db_password: str = 'aabbccddeeff'"),
        ("js", "const k = process.env.API_KEY || 'aabbccddeeff'"),
        ("php", "<?php $k = env('MAIL_PASSWORD', 'aabbccddeeff');"),
        ("rb", "k = ENV.fetch('JWT_SECRET', 'aabbccddeeff')"),
    ],
)
def test_a_secret_default_is_not_in_the_line_that_is_shown(ending: str, code: str) -> None:
    use = said(code, ending).uses[0]
    assert use.default == "aabbccddeeff"
    assert "aabbccddeeff" not in use.place.text and "••••••" in use.place.text


def test_what_a_web_server_hands_to_an_application_is_not_the_environment() -> None:
    handed = (
        "def application(environ, start_response):\n    return environ['PATH_INFO'], environ.get('QUERY')\n"
    )
    assert said(handed, "py").uses == ()
    assert said("from os import environ\n" + handed, "py").uses == ()
    assert [use.key for use in said("from os import environ\nenviron['GAUGE']\n", "py").uses] == ["GAUGE"]
    assert [use.key for use in said("import os as system\nsystem.environ['GAUGE']\n", "py").uses] == ["GAUGE"]
    request = "def view(request):\n    return request.environ['REMOTE_USER']\n"
    assert said(request, "py").uses == ()


@pytest.mark.parametrize(
    ("code", "needed"),
    [
        ("os.environ['GAUGE']", True),
        ("if __name__ == '__main__':\n    os.environ['GAUGE']", True),
        ("if config.remote:\n    os.environ['GAUGE']", False),
        ("url = os.environ['GAUGE'] if remote else 'local'", False),
        (
            "def make():\n    if 'GAUGE' not in os.environ:\n        return None\n    return os.environ['GAUGE']",
            False,
        ),
        ("if os.environ.get('GAUGE'):\n    app.config.from_envvar('GAUGE')", False),
        ("app.config.from_envvar('GAUGE')", True),
        ("if reload and not os.environ.get('GAUGE'):\n    raise SystemExit(1)", False),
        ("if wrong or not os.environ.get('GAUGE'):\n    raise SystemExit(1)", True),
        (
            "def f():\n    if not os.getenv('GAUGE', ''):\n        return\n    os.getenv('GAUGE').split(':')",
            False,
        ),
        (
            "def f():\n    if not os.getenv('GAUGE'):\n        return\n    if ':' not in os.getenv('GAUGE'):\n        raise ValueError",
            False,
        ),
        ("os.getenv('GAUGE').split(':')", True),
        ("try:\n    x = 1\nexcept OSError:\n    os.environ['GAUGE']", False),
    ],
)
def test_only_what_surely_stops_the_program_is_needed(code: str, needed: bool) -> None:
    assert any(use.needed for use in said(f"import os\n{code}\n", "py").uses) == needed
