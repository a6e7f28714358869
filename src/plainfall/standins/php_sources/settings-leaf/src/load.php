<?php

namespace Hollin;

/** Puts the lines of a file (KEY=VALUE) into the environment, where nothing is set yet. */
function load_settings(string $file): void
{
    foreach (is_file($file) ? file($file, FILE_IGNORE_NEW_LINES) : [] as $line) {
        if (preg_match('/^([A-Z_]+)=(.*)$/', trim($line), $match) && getenv($match[1]) === false) {
            putenv("$match[1]=" . trim($match[2], '"'));
        }
    }
}
