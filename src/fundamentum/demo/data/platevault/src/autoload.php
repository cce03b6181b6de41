<?php

spl_autoload_register(static function (string $class): void {
    $file = __DIR__ . '/' . str_replace(['PlateVault\\', '\\'], ['', '/'], $class) . '.php';
    if (is_file($file)) {
        require $file;
    }
});
