"""Clones on real PHP frameworks: written for the tests; the frameworks themselves are fetched."""

from __future__ import annotations

__all__ = ["CLONES", "MANIFESTS"]

CLONES: dict[str, dict[str, str]] = {
    "laravel": {
        ".env.example": (
            "APP_NAME=Ledger\n"
            "APP_ENV=local\n"
            "APP_KEY=\n"
            "APP_DEBUG=true\n"
            "APP_URL=http://localhost\n"
            "\n"
            "DB_CONNECTION=sqlite\n"
        ),
        ".gitignore": ("/vendor\n.env\n*.sqlite\n"),
        "README.md": (
            "# Ledger\n"
            "\n"
            "## Setup\n"
            "\n"
            "```\n"
            "composer install\n"
            "cp .env.example .env\n"
            "php artisan key:generate\n"
            "php artisan migrate --seed\n"
            "php artisan serve\n"
            "```\n"
        ),
        "app/Console/Kernel.php": (
            "<?php\n"
            "namespace App\\Console;\n"
            "class Kernel extends \\Illuminate\\Foundation\\Console\\Kernel {}\n"
        ),
        "app/Exceptions/Handler.php": (
            "<?php\n"
            "namespace App\\Exceptions;\n"
            "class Handler extends \\Illuminate\\Foundation\\Exceptions\\Handler {}\n"
        ),
        "app/Http/Kernel.php": (
            "<?php\n"
            "namespace App\\Http;\n"
            "class Kernel extends \\Illuminate\\Foundation\\Http\\Kernel {\n"
            "    protected $middlewareGroups = ['web' => [\\Illuminate\\Cookie\\Middleware\\EncryptCookies::class, \\Illuminate\\Session\\Middleware\\StartSession::class, \\Illuminate\\Routing\\Middleware\\SubstituteBindings::class]];\n"
            "}\n"
        ),
        "app/Models/Station.php": (
            "<?php\n"
            "namespace App\\Models;\n"
            "class Station extends \\Illuminate\\Database\\Eloquent\\Model { protected $guarded = []; public $timestamps = false; }\n"
        ),
        "app/Providers/RouteServiceProvider.php": (
            "<?php\n"
            "namespace App\\Providers;\n"
            "use Illuminate\\Support\\Facades\\Route;\n"
            "class RouteServiceProvider extends \\Illuminate\\Foundation\\Support\\Providers\\RouteServiceProvider {\n"
            "    public function map() { Route::middleware('web')->group(base_path('routes/web.php')); }\n"
            "}\n"
        ),
        "artisan": (
            "#!/usr/bin/env php\n"
            "<?php\n"
            "define('LARAVEL_START', microtime(true));\n"
            "require __DIR__ . '/vendor/autoload.php';\n"
            "$app = require_once __DIR__ . '/bootstrap/app.php';\n"
            "$kernel = $app->make(Illuminate\\Contracts\\Console\\Kernel::class);\n"
            "$status = $kernel->handle($input = new Symfony\\Component\\Console\\Input\\ArgvInput, new Symfony\\Component\\Console\\Output\\ConsoleOutput);\n"
            "$kernel->terminate($input, $status);\n"
            "exit($status);\n"
        ),
        "bootstrap/app.php": (
            "<?php\n"
            "$app = new Illuminate\\Foundation\\Application(dirname(__DIR__));\n"
            "$app->singleton(Illuminate\\Contracts\\Http\\Kernel::class, App\\Http\\Kernel::class);\n"
            "$app->singleton(Illuminate\\Contracts\\Console\\Kernel::class, App\\Console\\Kernel::class);\n"
            "$app->singleton(Illuminate\\Contracts\\Debug\\ExceptionHandler::class, App\\Exceptions\\Handler::class);\n"
            "return $app;\n"
        ),
        "bootstrap/cache/.gitkeep": "",
        "config/app.php": (
            "<?php\n"
            "return ['name' => env('APP_NAME', 'Gauges'), 'env' => env('APP_ENV', 'production'), 'debug' => (bool) env('APP_DEBUG', false), 'url' => env('APP_URL', 'http://localhost'), 'timezone' => 'UTC', 'locale' => 'en', 'fallback_locale' => 'en', 'key' => env('APP_KEY'), 'cipher' => 'AES-256-CBC',\n"
            " 'providers' => [Illuminate\\Bus\\BusServiceProvider::class, Illuminate\\Cache\\CacheServiceProvider::class, Illuminate\\Foundation\\Providers\\ConsoleSupportServiceProvider::class, Illuminate\\Cookie\\CookieServiceProvider::class, Illuminate\\Database\\DatabaseServiceProvider::class, Illuminate\\Encryption\\EncryptionServiceProvider::class, Illuminate\\Filesystem\\FilesystemServiceProvider::class, Illuminate\\Foundation\\Providers\\FoundationServiceProvider::class, Illuminate\\Hashing\\HashServiceProvider::class, Illuminate\\Pagination\\PaginationServiceProvider::class, Illuminate\\Pipeline\\PipelineServiceProvider::class, Illuminate\\Queue\\QueueServiceProvider::class, Illuminate\\Session\\SessionServiceProvider::class, Illuminate\\Translation\\TranslationServiceProvider::class, Illuminate\\Validation\\ValidationServiceProvider::class, Illuminate\\View\\ViewServiceProvider::class, App\\Providers\\RouteServiceProvider::class],\n"
            " 'aliases' => []];\n"
        ),
        "config/cache.php": "<?php return ['default' => 'file', 'stores' => ['file' => ['driver' => 'file', 'path' => storage_path('framework/cache')]], 'prefix' => 'g'];\n",
        "config/database.php": (
            "<?php\n"
            "return ['default' => env('DB_CONNECTION', 'mysql'), 'migrations' => 'migrations', 'connections' => [\n"
            " 'sqlite' => ['driver' => 'sqlite', 'database' => env('DB_DATABASE', database_path('database.sqlite')), 'prefix' => '', 'foreign_key_constraints' => true],\n"
            " 'mysql' => ['driver' => 'mysql', 'host' => env('DB_HOST', '127.0.0.1'), 'port' => env('DB_PORT', '3306'), 'database' => env('DB_DATABASE', 'forge'), 'username' => env('DB_USERNAME', 'forge'), 'password' => env('DB_PASSWORD', ''), 'charset' => 'utf8mb4', 'collation' => 'utf8mb4_unicode_ci', 'prefix' => '']]];\n"
        ),
        "config/filesystems.php": "<?php return ['default' => 'local', 'disks' => ['local' => ['driver' => 'local', 'root' => storage_path('app')]], 'links' => [public_path('storage') => storage_path('app/public')]];\n",
        "config/logging.php": "<?php return ['default' => 'single', 'channels' => ['single' => ['driver' => 'single', 'path' => storage_path('logs/laravel.log'), 'level' => 'debug']]];\n",
        "config/queue.php": "<?php return ['default' => 'sync', 'connections' => ['sync' => ['driver' => 'sync']], 'failed' => ['driver' => 'database', 'database' => 'sqlite', 'table' => 'failed_jobs']];\n",
        "config/session.php": "<?php return ['driver' => 'file', 'lifetime' => 120, 'expire_on_close' => false, 'encrypt' => false, 'files' => storage_path('framework/sessions'), 'lottery' => [2, 100], 'cookie' => 'g', 'path' => '/', 'domain' => null, 'secure' => null, 'http_only' => true, 'same_site' => 'lax', 'connection' => null, 'table' => 'sessions', 'store' => null];\n",
        "config/view.php": "<?php return ['paths' => [resource_path('views')], 'compiled' => realpath(storage_path('framework/views'))];\n",
        "database/migrations/2026_01_05_000000_create_stations_table.php": (
            "<?php\n"
            "use Illuminate\\Database\\Migrations\\Migration; use Illuminate\\Database\\Schema\\Blueprint; use Illuminate\\Support\\Facades\\Schema;\n"
            "class CreateStationsTable extends Migration { public function up() { Schema::create('stations', function (Blueprint $table) { $table->id(); $table->string('name'); $table->integer('height'); }); } public function down() { Schema::drop('stations'); } }\n"
        ),
        "database/seeders/DatabaseSeeder.php": (
            "<?php\n"
            "namespace Database\\Seeders;\n"
            "class DatabaseSeeder extends \\Illuminate\\Database\\Seeder { public function run() { foreach (['Ashford Mill' => 120, 'Copper Hill' => 340] as $name => $height) { \\App\\Models\\Station::create(compact('name', 'height')); } } }\n"
        ),
        "public/index.php": (
            "<?php\n"
            "define('LARAVEL_START', microtime(true));\n"
            "require __DIR__ . '/../vendor/autoload.php';\n"
            "$app = require_once __DIR__ . '/../bootstrap/app.php';\n"
            "$kernel = $app->make(Illuminate\\Contracts\\Http\\Kernel::class);\n"
            "$response = $kernel->handle($request = Illuminate\\Http\\Request::capture())->send();\n"
            "$kernel->terminate($request, $response);\n"
        ),
        "resources/views/stations.blade.php": "<!doctype html><title>Stations</title><ul>@foreach ($stations as $station)<li>{{ $station->name }}</li>@endforeach</ul>\n",
        "routes/web.php": (
            "<?php\n"
            "use Illuminate\\Support\\Facades\\Route;\n"
            "Route::get('/', fn () => view('stations', ['stations' => App\\Models\\Station::orderBy('name')->get()]));\n"
        ),
        "server.php": (
            "<?php\n"
            "$asked = urldecode(parse_url($_SERVER['REQUEST_URI'], PHP_URL_PATH));\n"
            "if ($asked !== '/' && is_file(__DIR__ . '/public' . $asked)) { return false; }\n"
            "require_once __DIR__ . '/public/index.php';\n"
        ),
        "storage/app/public/.gitkeep": "",
        "storage/framework/cache/.gitkeep": "",
        "storage/framework/sessions/.gitkeep": "",
        "storage/framework/views/.gitkeep": "",
        "storage/logs/.gitkeep": "",
    },
    "symfony": {
        ".env": ("APP_ENV=dev\nAPP_SECRET=\n"),
        ".gitignore": ("/vendor/\n/var/\n.env.local\n"),
        "bin/console": (
            "#!/usr/bin/env php\n"
            "<?php\n"
            "use App\\Kernel; use Symfony\\Bundle\\FrameworkBundle\\Console\\Application;\n"
            "require_once dirname(__DIR__) . '/vendor/autoload_runtime.php';\n"
            "return fn (array $context) => new Application(new Kernel($context['APP_ENV'], (bool) $context['APP_DEBUG']));\n"
        ),
        "config/bundles.php": (
            "<?php\n"
            "return [Symfony\\Bundle\\FrameworkBundle\\FrameworkBundle::class => ['all' => true], Symfony\\Bundle\\TwigBundle\\TwigBundle::class => ['all' => true]];\n"
        ),
        "config/packages/framework.yaml": (
            "framework:\n    secret: '%env(APP_SECRET)%'\n    http_method_override: false\n"
        ),
        "config/routes.yaml": ("controllers:\n    resource: ../src/Controller/\n    type: annotation\n"),
        "config/services.yaml": (
            "services:\n"
            "    _defaults: { autowire: true, autoconfigure: true }\n"
            "    App\\: { resource: '../src/' }\n"
        ),
        "public/index.php": (
            "<?php\n"
            "use App\\Kernel;\n"
            "require_once dirname(__DIR__) . '/vendor/autoload_runtime.php';\n"
            "return fn (array $context) => new Kernel($context['APP_ENV'], (bool) $context['APP_DEBUG']);\n"
        ),
        "src/Controller/DeskController.php": (
            "<?php\n"
            "namespace App\\Controller;\n"
            "use Symfony\\Bundle\\FrameworkBundle\\Controller\\AbstractController; use Symfony\\Component\\HttpFoundation\\Response; use Symfony\\Component\\Routing\\Annotation\\Route;\n"
            "class DeskController extends AbstractController { #[Route('/')] public function index(): Response { return $this->render('desk.html.twig', ['stations' => ['Ashford Mill', 'Copper Hill']]); } }\n"
        ),
        "src/Kernel.php": (
            "<?php\n"
            "namespace App;\n"
            "use Symfony\\Bundle\\FrameworkBundle\\Kernel\\MicroKernelTrait; use Symfony\\Component\\HttpKernel\\Kernel as Base;\n"
            "class Kernel extends Base { use MicroKernelTrait; }\n"
        ),
        "templates/desk.html.twig": "<!doctype html><html><head><title>Desk</title></head><body>{% for one in stations %}<p>{{ one }}</p>{% endfor %}</body></html>\n",
    },
    "slim": {
        ".env.example": "DESK_NAME=Kelby\n",
        ".gitignore": ("vendor/\n.env\n"),
        "lib/old.php": "<?php class OldGauge {} interface Reads {}\n",
        "public/index.php": (
            "<?php\n"
            "require __DIR__ . '/../vendor/autoload.php';\n"
            "Dotenv\\Dotenv::createImmutable(dirname(__DIR__))->safeLoad();\n"
            "$app = new Slim\\App(['settings' => ['displayErrorDetails' => true]]);\n"
            "$app->get('/', function ($request, $response) { return $response->write('<!doctype html><title>Rain desk</title><p>' . ($_ENV['DESK_NAME'] ?? 'none') . ' in ' . gauge_unit() . '</p>'); });\n"
            "$app->get('/stations/{name}', function ($request, $response, $arguments) { return $response->write(htmlspecialchars($arguments['name'])); });\n"
            "$app->run();\n"
        ),
        "src/helpers.php": '<?php function gauge_unit() { return "mm"; }\n',
    },
}
MANIFESTS: dict[str, dict[str, object]] = {
    "laravel": {
        "name": "gauges/ledger",
        "type": "project",
        "require": {"php": "^8.0", "laravel/framework": "*"},
        "autoload": {"psr-4": {"App\\": "app/", "Database\\Seeders\\": "database/seeders/"}},
        "scripts": {"post-autoload-dump": ["@php artisan package:discover --ansi"]},
        "config": {"optimize-autoloader": True},
    },
    "symfony": {
        "name": "gauges/desk",
        "type": "project",
        "require": {"php": ">=8.0", "symfony/framework-bundle": "*", "symfony/runtime": "*"},
        "autoload": {"psr-4": {"App\\": "src/"}},
    },
    "slim": {
        "require": {"slim/slim": "*"},
        "autoload": {"psr-4": {"Gauges\\": "src/"}, "files": ["src/helpers.php"], "classmap": ["lib/"]},
    },
}
