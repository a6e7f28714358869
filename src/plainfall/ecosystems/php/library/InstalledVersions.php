<?php

// Tells a program which packages are installed. The name and the public methods are those that programs of this
// ecosystem expect; what it tells is read from installed.php beside this file.

namespace Composer;

use Composer\Autoload\ClassLoader;

class InstalledVersions
{
    /** @var array<string, mixed>|null */
    private static $own;
    /** @var array<string, array<string, mixed>> by the folder of installed packages */
    private static $others = [];

    public static function getInstalledPackages()
    {
        $names = [];
        foreach (self::all() as $data) {
            $names = array_merge($names, array_keys($data['versions']));
        }
        return array_values(array_unique($names));
    }

    public static function getInstalledPackagesByType($type)
    {
        $names = [];
        foreach (self::all() as $data) {
            foreach ($data['versions'] as $name => $package) {
                if (isset($package['type']) && $package['type'] === $type) {
                    $names[] = $name;
                }
            }
        }
        return $names;
    }

    public static function isInstalled($packageName, $includeDevRequirements = true)
    {
        foreach (self::all() as $data) {
            if (isset($data['versions'][$packageName])) {
                return $includeDevRequirements || empty($data['versions'][$packageName]['dev_requirement']);
            }
        }
        return false;
    }

    public static function satisfies($parser, $packageName, $constraint)
    {
        $wanted = $parser->parseConstraints((string) $constraint);
        return $parser->parseConstraints(self::getVersionRanges($packageName))->matches($wanted);
    }

    public static function getVersionRanges($packageName)
    {
        $package = self::package($packageName);
        $ranges = isset($package['pretty_version']) ? [$package['pretty_version']] : [];
        foreach (['aliases', 'replaced', 'provided'] as $key) {
            $ranges = array_merge($ranges, $package[$key] ?? []);
        }
        return implode(' || ', $ranges);
    }

    public static function getVersion($packageName)
    {
        return self::package($packageName)['version'] ?? null;
    }

    public static function getPrettyVersion($packageName)
    {
        return self::package($packageName)['pretty_version'] ?? null;
    }

    public static function getReference($packageName)
    {
        return self::package($packageName)['reference'] ?? null;
    }

    public static function getInstallPath($packageName)
    {
        return self::package($packageName)['install_path'] ?? null;
    }

    public static function getRootPackage()
    {
        $all = self::all();
        return $all[0]['root'];
    }

    public static function getRawData()
    {
        if (self::$own === null) {
            self::$own = is_file(__DIR__ . '/installed.php')
                ? include __DIR__ . '/installed.php'
                : ['root' => [], 'versions' => []];
        }
        return self::$own;
    }

    public static function getAllRawData()
    {
        return self::all();
    }

    public static function reload($data)
    {
        self::$own = $data;
        self::$others = [];
    }

    private static function package($name)
    {
        foreach (self::all() as $data) {
            if (isset($data['versions'][$name])) {
                return $data['versions'][$name];
            }
        }
        throw new \OutOfBoundsException("Package \"$name\" is not installed");
    }

    private static function all()
    {
        $found = [];
        if (method_exists(ClassLoader::class, 'getRegisteredLoaders')) {
            foreach (ClassLoader::getRegisteredLoaders() as $folder => $loader) {
                $file = $folder . '/composer/installed.php';
                if (!isset(self::$others[$folder]) && is_file($file)) {
                    self::$others[$folder] = realpath($file) === realpath(__DIR__ . '/installed.php')
                        ? self::getRawData()
                        : require $file;
                }
                if (isset(self::$others[$folder])) {
                    $found[] = self::$others[$folder];
                }
            }
        }
        if (self::getRawData()['versions'] !== [] && !in_array(self::getRawData(), $found, true)) {
            $found[] = self::getRawData();
        }
        return $found ?: [self::getRawData()];
    }
}
