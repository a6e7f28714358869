<?php

// Finds the files of classes: by a map, by namespaces with folders (PSR-4) and by the older naming rule (PSR-0).
// The name and the public methods are those that programs of this ecosystem expect.

namespace Composer\Autoload;

class ClassLoader
{
    /** @var array<string, self> by the folder of installed packages */
    private static $registered = [];

    /** @var string|null */
    private $folder;
    /** @var array<string, array<string, list<string>>> first letter → prefix → folders */
    private $spaces = [];
    /** @var list<string> */
    private $anySpace = [];
    /** @var array<string, array<string, list<string>>> */
    private $prefixes = [];
    /** @var list<string> */
    private $anyPrefix = [];
    /** @var array<string, string> */
    private $map = [];
    /** @var array<string, true> */
    private $absent = [];
    /** @var bool */
    private $searchesIncludePath = false;
    /** @var bool */
    private $mapIsComplete = false;
    /** @var string|null */
    private $memoryPrefix;

    public function __construct($vendorDir = null)
    {
        $this->folder = $vendorDir;
    }

    public function getPrefixes()
    {
        return $this->prefixes ? array_merge(...array_values($this->prefixes)) : [];
    }

    public function getPrefixesPsr4()
    {
        return $this->spaces ? array_merge(...array_values($this->spaces)) : [];
    }

    public function getFallbackDirs()
    {
        return $this->anyPrefix;
    }

    public function getFallbackDirsPsr4()
    {
        return $this->anySpace;
    }

    public function getClassMap()
    {
        return $this->map;
    }

    public function addClassMap(array $classMap)
    {
        $this->map = $classMap + $this->map;
    }

    public function add($prefix, $paths, $prepend = false)
    {
        if ($prefix === '') {
            $this->anyPrefix = self::joined($this->anyPrefix, (array) $paths, $prepend);
            return;
        }
        $known = $this->prefixes[$prefix[0]][$prefix] ?? [];
        $this->prefixes[$prefix[0]][$prefix] = self::joined($known, (array) $paths, $prepend);
    }

    public function addPsr4($prefix, $paths, $prepend = false)
    {
        if ($prefix === '') {
            $this->anySpace = self::joined($this->anySpace, (array) $paths, $prepend);
            return;
        }
        self::checkSpace($prefix);
        $known = $this->spaces[$prefix[0]][$prefix] ?? [];
        $this->spaces[$prefix[0]][$prefix] = self::joined($known, (array) $paths, $prepend);
    }

    public function set($prefix, $paths)
    {
        if ($prefix === '') {
            $this->anyPrefix = (array) $paths;
        } else {
            $this->prefixes[$prefix[0]][$prefix] = (array) $paths;
        }
    }

    public function setPsr4($prefix, $paths)
    {
        if ($prefix === '') {
            $this->anySpace = (array) $paths;
            return;
        }
        self::checkSpace($prefix);
        $this->spaces[$prefix[0]][$prefix] = (array) $paths;
    }

    public function setUseIncludePath($useIncludePath)
    {
        $this->searchesIncludePath = (bool) $useIncludePath;
    }

    public function getUseIncludePath()
    {
        return $this->searchesIncludePath;
    }

    public function setClassMapAuthoritative($classMapAuthoritative)
    {
        $this->mapIsComplete = (bool) $classMapAuthoritative;
    }

    public function isClassMapAuthoritative()
    {
        return $this->mapIsComplete;
    }

    public function setApcuPrefix($apcuPrefix)
    {
        $usable = function_exists('apcu_fetch') && filter_var(ini_get('apc.enabled'), FILTER_VALIDATE_BOOLEAN);
        $this->memoryPrefix = $usable ? $apcuPrefix : null;
    }

    public function getApcuPrefix()
    {
        return $this->memoryPrefix;
    }

    public function register($prepend = false)
    {
        spl_autoload_register([$this, 'loadClass'], true, $prepend);
        if ($this->folder === null) {
            return;
        }
        if ($prepend) {
            self::$registered = [$this->folder => $this] + self::$registered;
        } else {
            unset(self::$registered[$this->folder]);
            self::$registered[$this->folder] = $this;
        }
    }

    public function unregister()
    {
        spl_autoload_unregister([$this, 'loadClass']);
        if ($this->folder !== null) {
            unset(self::$registered[$this->folder]);
        }
    }

    public static function getRegisteredLoaders()
    {
        return self::$registered;
    }

    public function loadClass($class)
    {
        $file = $this->findFile($class);
        if ($file === false) {
            return null;
        }
        (static function ($plainfallFile) {
            include $plainfallFile;
        })($file);
        return true;
    }

    public function findFile($class)
    {
        if (isset($this->map[$class])) {
            return $this->map[$class];
        }
        if ($this->mapIsComplete || isset($this->absent[$class])) {
            return false;
        }
        if ($this->memoryPrefix !== null) {
            $known = apcu_fetch($this->memoryPrefix . $class, $hit);
            if ($hit) {
                return $known;
            }
        }
        $file = $this->searched($class, '.php');
        if ($file === false && defined('HHVM_VERSION')) {
            $file = $this->searched($class, '.hh');
        }
        if ($this->memoryPrefix !== null) {
            apcu_add($this->memoryPrefix . $class, $file);
        }
        if ($file === false) {
            $this->absent[$class] = true;
        }
        return $file;
    }

    private function searched($class, $ending)
    {
        $path = strtr($class, '\\', '/') . $ending;
        $letter = $class[0];
        if (isset($this->spaces[$letter])) {
            // The longest namespace that the class is in comes first.
            for ($end = strrpos($class, '\\'); $end !== false; $end = strrpos(substr($class, 0, $end), '\\')) {
                foreach ($this->spaces[$letter][substr($class, 0, $end + 1)] ?? [] as $folder) {
                    $file = $folder . '/' . substr($path, $end + 1);
                    if (file_exists($file)) {
                        return $file;
                    }
                }
            }
        }
        foreach ($this->anySpace as $folder) {
            if (file_exists($file = $folder . '/' . $path)) {
                return $file;
            }
        }
        // By the older rule an underscore in the class's own name is a folder, too.
        $end = strrpos($class, '\\');
        $older = $end === false
            ? strtr($class, '_', '/') . $ending
            : substr($path, 0, $end + 1) . strtr(substr($path, $end + 1), '_', '/');
        foreach ($this->prefixes[$letter] ?? [] as $prefix => $folders) {
            if (strpos($class, (string) $prefix) === 0) {
                foreach ($folders as $folder) {
                    if (file_exists($file = $folder . '/' . $older)) {
                        return $file;
                    }
                }
            }
        }
        foreach ($this->anyPrefix as $folder) {
            if (file_exists($file = $folder . '/' . $older)) {
                return $file;
            }
        }
        return $this->searchesIncludePath ? stream_resolve_include_path($older) : false;
    }

    private static function joined(array $known, array $more, $first)
    {
        return $first ? array_merge($more, $known) : array_merge($known, $more);
    }

    private static function checkSpace($prefix)
    {
        if (substr($prefix, -1) !== '\\') {
            throw new \InvalidArgumentException("A namespace ends with a backslash here: $prefix");
        }
    }
}
