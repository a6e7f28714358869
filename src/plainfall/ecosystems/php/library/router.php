<?php

// Written by Plainfall for the runtime's own server: files are served as they are, folders by their index, and every
// other address goes to the first page.

$plainfallRoot = rtrim(realpath($_SERVER['DOCUMENT_ROOT']), '/');
$plainfallPath = rawurldecode((string) parse_url($_SERVER['REQUEST_URI'], PHP_URL_PATH));
$plainfallPlace = $plainfallRoot;
foreach (array_filter(explode('/', $plainfallPath), 'strlen') as $plainfallPiece) {
    if ($plainfallPiece === '..') {
        http_response_code(400);
        return true;
    }
    $plainfallPlace .= '/' . $plainfallPiece;
    if (is_file($plainfallPlace)) {
        return false; // with what follows as its path, as the server has it
    }
}
if (is_dir($plainfallPlace) && $plainfallPlace !== $plainfallRoot) {
    foreach (['index.php', 'index.html'] as $plainfallName) {
        if (is_file($plainfallPlace . '/' . $plainfallName)) {
            return false;
        }
    }
}
foreach (['index.php', 'index.phtml', 'index.html'] as $plainfallName) {
    if (is_file($plainfallRoot . '/' . $plainfallName)) {
        $_SERVER['SCRIPT_NAME'] = $_SERVER['PHP_SELF'] = '/' . $plainfallName;
        $_SERVER['SCRIPT_FILENAME'] = $plainfallRoot . '/' . $plainfallName;
        if (substr($plainfallName, -5) === '.html') {
            return readfile($_SERVER['SCRIPT_FILENAME']) !== false;
        }
        chdir($plainfallRoot);
        return require $_SERVER['SCRIPT_FILENAME'];
    }
}
return false;
