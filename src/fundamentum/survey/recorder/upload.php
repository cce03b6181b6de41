<?php
// Tells what PHP has where this file lies, for a check elsewhere: versions, extensions, settings, functions, directories.
// Made %MADE%.  It answers to its key alone, and for an hour; remove it as soon as you have the answer.
// It writes nothing, and tells no environment, no request and no password.
$until = %UNTIL%;
$digest = '%DIGEST%';
$directories = array(%DIRECTORIES%);

$given = isset($_GET['key']) && is_string($_GET['key']) ? $_GET['key'] : '';
$now = time();
if ($now > $until || $now > filemtime(__FILE__) + 3600 || !hash_equals($digest, hash('sha256', $given))) {
    header('HTTP/1.1 404 Not Found');
    header('Content-Type: text/plain');
    exit("not found\n");
}

function quiet_settings()
{
    $found = array();
    $all = function_exists('ini_get_all') ? ini_get_all(null, false) : array();
    foreach ($all ? $all : array() as $name => $value) {
        if (preg_match('/passw|passwd|_pw$|\.pw$|secret|token|credential|api_?key|license/i', $name)) {
            continue;
        }
        $value = preg_replace('#(://[^/\s:@]*:)[^@\s/]+(?=@)#', '$1(withheld)', (string) $value);
        $found[$name] = preg_replace('/((?:auth|password|passwd|pwd|secret|token|api_?key)=)[^&\s;"\',]+/i', '$1(withheld)', $value);
    }
    return $found;
}

function seen($path)
{
    if (!@file_exists($path)) {
        return 'absent';
    }
    return @is_dir($path) ? (@is_writable($path) ? 'writable' : 'read-only') : 'file';
}

$places = array();
foreach ($directories as $directory) {
    $paths = $directory[0] === '/' ? array($directory) : array(__DIR__ . '/' . $directory, dirname(__DIR__) . '/' . $directory);
    foreach ($paths as $path) {
        $places[$path] = seen($path);
    }
}
ob_start();
if (function_exists('phpinfo')) {
    phpinfo(1);
}
$page = preg_replace('/<[^>]*>/', ' ', ob_get_clean());
$functions = array();
foreach (array('exec', 'shell_exec', 'system', 'passthru', 'proc_open', 'popen', 'mail', 'set_time_limit', 'symlink') as $name) {
    $functions[$name] = function_exists($name);
}
header('Content-Type: application/json');
header('Content-Disposition: attachment; filename="php.recording.json"');
header('Cache-Control: no-store');
header('X-Robots-Tag: noindex');
echo json_encode(array(
    'recorded_by' => 'php',
    'format' => 1,
    'taken' => $now,
    'file' => __FILE__,
    'version' => PHP_VERSION,
    'sapi' => PHP_SAPI,
    'host' => isset($_SERVER['HTTP_HOST']) ? (string) $_SERVER['HTTP_HOST'] : '',
    'web_server' => isset($_SERVER['SERVER_SOFTWARE']) ? (string) $_SERVER['SERVER_SOFTWARE'] : '',
    'system' => PHP_OS,
    'machine' => function_exists('php_uname') ? php_uname('m') : '',
    'bits' => PHP_INT_SIZE * 8,
    'thread_safe' => (bool) PHP_ZTS,
    'debug' => (bool) PHP_DEBUG,
    'build' => preg_match('/API\d{8},N?TS(?:,debug)?(?:,V[CS]\d+)?/', $page, $match) ? $match[0] : '',
    'ini_file' => (string) php_ini_loaded_file(),
    'scanned' => (string) php_ini_scanned_files(),
    'extensions' => array_values(array_unique(array_merge(get_loaded_extensions(), get_loaded_extensions(true)))),
    'settings' => (object) quiet_settings(),
    'functions' => $functions,
    'places' => (object) $places,
    'told' => (object) %TOLD%,
), defined('JSON_INVALID_UTF8_SUBSTITUTE') ? JSON_INVALID_UTF8_SUBSTITUTE | JSON_PARTIAL_OUTPUT_ON_ERROR : JSON_PARTIAL_OUTPUT_ON_ERROR);
