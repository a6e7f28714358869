<?php

// Calls a static function of the project, as its scripts name it, with an event that answers what such functions ask:
// php callback.php VENDOR EVENT CLASS::FUNCTION [ARGUMENT ...]

namespace Composer\IO {
    interface IOInterface
    {
    }
}

namespace Composer\Script {
    class Event
    {
        private $name;
        private $vendor;
        private $arguments;

        public function __construct($name, $vendor, array $arguments)
        {
            $this->name = $name;
            $this->vendor = $vendor;
            $this->arguments = $arguments;
        }

        public function getName()
        {
            return $this->name;
        }

        public function getArguments()
        {
            return $this->arguments;
        }

        public function getFlags()
        {
            return [];
        }

        public function isDevMode()
        {
            return true;
        }

        public function isPropagationStopped()
        {
            return false;
        }

        public function stopPropagation()
        {
        }

        public function getComposer()
        {
            return new \Plainfall\Project($this->vendor);
        }

        public function getIO()
        {
            return new \Plainfall\Console();
        }
    }

    class PackageEvent extends Event
    {
    }

    class ScriptEvents
    {
        const PRE_INSTALL_CMD = 'pre-install-cmd';
        const POST_INSTALL_CMD = 'post-install-cmd';
        const PRE_UPDATE_CMD = 'pre-update-cmd';
        const POST_UPDATE_CMD = 'post-update-cmd';
        const PRE_AUTOLOAD_DUMP = 'pre-autoload-dump';
        const POST_AUTOLOAD_DUMP = 'post-autoload-dump';
    }
}

namespace Plainfall {
    class Project
    {
        private $vendor;
        private $document;

        public function __construct($vendor)
        {
            $this->vendor = $vendor;
            $this->document = json_decode(file_get_contents('composer.json'), true) ?: [];
        }

        public function getConfig()
        {
            return $this;
        }

        public function getPackage()
        {
            return $this;
        }

        public function get($key)
        {
            if ($key === 'vendor-dir') {
                return $this->vendor;
            }
            if ($key === 'bin-dir') {
                return isset($this->document['config']['bin-dir'])
                    ? getcwd() . '/' . $this->document['config']['bin-dir']
                    : $this->vendor . '/bin';
            }
            return isset($this->document['config'][$key]) ? $this->document['config'][$key] : null;
        }

        public function has($key)
        {
            return $this->get($key) !== null;
        }

        public function getExtra()
        {
            return isset($this->document['extra']) ? $this->document['extra'] : [];
        }

        public function getName()
        {
            return isset($this->document['name']) ? $this->document['name'] : '__root__';
        }
    }

    class Console implements \Composer\IO\IOInterface
    {
        public function isInteractive()
        {
            return false;
        }

        public function isVerbose()
        {
            return false;
        }

        public function isVeryVerbose()
        {
            return false;
        }

        public function isDebug()
        {
            return false;
        }

        public function isDecorated()
        {
            return false;
        }

        public function write($messages, $newline = true)
        {
            echo strip_tags(implode("\n", (array) $messages)), $newline ? "\n" : '';
        }

        public function writeError($messages, $newline = true)
        {
            fwrite(STDERR, strip_tags(implode("\n", (array) $messages)) . ($newline ? "\n" : ''));
        }

        public function ask($question, $default = null)
        {
            return $default;
        }

        public function askConfirmation($question, $default = true)
        {
            return $default;
        }

        public function askAndValidate($question, $validator, $attempts = null, $default = null)
        {
            return $validator($default);
        }

        public function select($question, $choices, $default)
        {
            return $default;
        }
    }
}

namespace {
    [, $vendor, $event, $function] = $argv;
    require $vendor . '/autoload.php';
    if (!is_callable($function)) {
        fwrite(STDERR, "the script $event names $function, which is no function that can be called\n");
        exit(1);
    }
    $result = call_user_func($function, new \Composer\Script\Event($event, $vendor, array_slice($argv, 4)));
    exit($result === false ? 1 : (is_int($result) ? $result : 0));
}
